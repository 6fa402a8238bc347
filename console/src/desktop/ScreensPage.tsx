import { useEffect, useMemo, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { HostSummary } from "../api/types";
import { Flag } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { hostsOf, readable } from "../estate/hostList";
import { HostsTabs } from "../estate/HostsTabs";
import { Presence } from "../estate/Presence";
import { useEmblems } from "../estate/useCustomers";
import { useEstate, useScope } from "../estate/useEstate";
import { useGroups } from "../estate/useGroups";
import { Empty } from "../parts/Trouble";
import { SMALL, SmallScreen, type SmallSeen } from "./smallScreen";

/** So many are looked at; each is a line to a host. */
const MOST = 60;

/** The screens of many hosts, small, side by side: those of the scope, or those that were marked. */
export function ScreensPage() {
  const estate = useEstate();
  const [scope] = useScope();
  const { groups } = useGroups();
  const chosen = useSearchParams()[0].get("hosts");
  const hosts = useMemo(
    () => {
      const only = chosen ? new Set(chosen.split(",")) : undefined;
      const may = new Map(groups.map((g) => [g.path, g.may?.includes("watch") ?? true]));
      return hostsOf(estate.hosts, estate.byName, {
        scope: only ? "" : scope,
        words: "",
        selected: only,
        grouping: "none",
        sorting: { by: "label", down: false },
      }).filter((h) => may.get(h.groupPath) ?? true);
    },
    // The map is changed in place; its shape says when hosts came or went.
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [estate.hosts, estate.shape, scope, chosen, groups],
  );
  const linked = hosts.filter((h) => h.presence.state === "linked" && !h.retiredAt);
  const shown = linked.slice(0, MOST);
  return (
    <main className="page screens-page">
      <div className="page-head">
        <h1>Screens</h1>
        <HostsTabs />
        <span className="muted">
          {chosen ? "of the hosts that were marked" : scope ? `of ${readable(scope)}` : "of everything"} ·{" "}
          {shown.length} of {hosts.length} hosts
          {hosts.length > linked.length && `, ${String(hosts.length - linked.length)} away`}
          {linked.length > MOST && `, the first ${String(MOST)}; narrow the scope for the others`}
        </span>
      </div>
      {shown.length === 0 ? (
        <Empty title="No screen to show">
          Hosts that are linked, and that you may watch, stand here. Widen the scope above, or mark some on{" "}
          <Link to="/hosts">Hosts</Link>.
        </Empty>
      ) : (
        <ul className="screens">
          {shown.map((host) => (
            <Tile key={host.id} host={host} />
          ))}
        </ul>
      )}
    </main>
  );
}

function Tile({ host }: { host: HostSummary }) {
  const emblems = useEmblems();
  const tile = useRef<HTMLLIElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const [near, setNear] = useState(false);
  const [seen, setSeen] = useState<SmallSeen>({ problem: undefined, there: false });
  // What is far below is not looked at.
  useEffect(() => {
    if (!tile.current) return;
    const watch = new IntersectionObserver(([entry]) => setNear(entry?.isIntersecting ?? false), {
      rootMargin: "200px",
    });
    watch.observe(tile.current);
    return () => watch.disconnect();
  }, []);
  useEffect(() => {
    if (!near || !canvas.current) return;
    const screen = new SmallScreen(host, canvas.current, setSeen);
    return () => screen.leave();
    // What changes of the host while it is shown opens no second line.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [near, host.id]);
  return (
    <li ref={tile} style={{ "--edge": emblems(host.groupPath).field } as React.CSSProperties}>
      <Link
        to={`/hosts/${host.id}/desktop?as=watch`}
        className="screen-tile"
        aria-label={`Watch ${host.label} of ${customerOf(host.groupPath)}`}
      >
        <span className="small-screen">
          <canvas ref={canvas} width={SMALL} height={SMALL * 0.625} hidden={!seen.there} aria-hidden="true" />
          {!seen.there && <span className="muted">{seen.problem ?? "Asking for its screen …"}</span>}
        </span>
        <b>{host.label}</b>
        <span className="muted whose">
          <Flag design={emblems(host.groupPath)} size={14} /> {readable(host.groupPath)}
        </span>
        {host.presence.state !== "linked" && <Presence presence={host.presence} />}
      </Link>
    </li>
  );
}
