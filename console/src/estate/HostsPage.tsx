import { useMediaQuery } from "@mantine/hooks";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef } from "react";
import { Link, useSearchParams } from "react-router";
import type { HostSummary } from "../api/types";
import { Empty } from "../parts/Trouble";
import { Emblem } from "./Emblem";
import { customerOf, emblemOf } from "./emblem";
import { readable, rowsOf, type ListRow } from "./hostList";
import { Presence } from "./Presence";
import { useEstate, useScope } from "./useEstate";

const HIGH_PERCENT = 90;
const edge = (path: string) => ({ "--edge": emblemOf(customerOf(path)).field }) as React.CSSProperties;

function Percent({ value, what }: { value: number | null | undefined; what: string }) {
  if (value == null) return <span className="number wide muted">–</span>;
  const high = value >= HIGH_PERCENT;
  return (
    <span className={high ? "number wide high" : "number wide"} title={high ? `${what}: high` : what}>
      {Math.round(value)} %{high && <span className="hidden-text"> high</span>}
    </span>
  );
}

function HostRow({ host, search }: { host: HostSummary; search: string }) {
  const linked = host.presence.state === "linked";
  return (
    <Link
      to={{ pathname: `/hosts/${host.id}`, search }}
      className={linked ? "hosts-row" : "hosts-row away"}
      style={edge(host.groupPath)}
    >
      <span className="host-name">
        <b>{host.label}</b>
        <span className="mono">{host.label === host.systemName ? host.address : host.systemName}</span>
      </span>
      <Presence presence={host.presence} />
      <span className="wide">
        {host.users.length > 0 ? host.users.join(", ") : <span className="muted">nobody</span>}
      </span>
      <Percent value={host.processorPercent} what="processor" />
      <Percent value={host.memoryUsedPercent} what="memory" />
      <Percent value={host.storageUsedPercent} what={`storage ${host.storageMount ?? ""}`} />
    </Link>
  );
}

function GroupRow({ row }: { row: Extract<ListRow, { kind: "group" }> }) {
  return (
    <div className="hosts-group" style={edge(row.path)}>
      <Emblem customer={customerOf(row.path)} />
      <span>{readable(row.path)}</span>
      <span className="muted">
        {row.hosts} {row.hosts === 1 ? "host" : "hosts"}
        {row.away > 0 && `, ${row.away} away`}
      </span>
    </div>
  );
}

export function HostsPage() {
  const estate = useEstate();
  const [scope] = useScope();
  const [params] = useSearchParams();
  const typed = params.get("find") ?? "";
  const rows = useMemo(() => rowsOf(estate.hosts.values(), scope, typed.trim()), [estate.hosts, scope, typed]);
  const hosts = rows.filter((r) => r.kind === "host");
  const linked = hosts.filter((r) => r.host.presence.state === "linked").length;
  const list = useRef<HTMLDivElement>(null);
  const narrow = useMediaQuery("(max-width: 700px)", window.innerWidth <= 700) ?? false;
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => list.current,
    estimateSize: (i) => (rows[i]?.kind === "group" ? 40 : narrow ? 56 : 44),
    overscan: 12,
    initialRect: { width: 1200, height: 800 },
  });
  useEffect(() => virtual.measure(), [virtual, narrow]);
  const search = scope ? `?scope=${encodeURIComponent(scope)}` : "";

  return (
    <main className="page">
      <div className="page-head">
        <h1>Hosts</h1>
        <div className="counts" aria-live="polite">
          <span>
            <b>{hosts.length}</b> {typed ? "found" : "in all"}
          </span>
          <span>
            <b>{linked}</b> linked
          </span>
          <span>
            <b>{hosts.length - linked}</b> away
          </span>
        </div>
      </div>
      <div className="hosts" ref={list} tabIndex={-1} role="region" aria-label="Hosts">
        {rows.length === 0 ? (
          !estate.known ? (
            <Empty title="Asking the service …" />
          ) : estate.hosts.size === 0 ? (
            <Empty title="No host has joined yet">
              Make a token under <Link to="/join">Join</Link> and run its one line on a computer.
            </Empty>
          ) : (
            <Empty title="No host matches">Type less, or widen the scope above.</Empty>
          )
        ) : (
          <>
            <div className="hosts-row hosts-head" aria-hidden="true">
              <span>Host</span>
              <span>Presence</span>
              <span>Logged in</span>
              <span className="number">Processor</span>
              <span className="number">Memory</span>
              <span className="number">Storage</span>
            </div>
            <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
              {virtual.getVirtualItems().map((item) => {
                const row = rows[item.index];
                return (
                  row && (
                    <div
                      key={row.kind === "group" ? row.path : row.host.id}
                      style={{
                        position: "absolute",
                        top: 0,
                        left: 0,
                        width: "100%",
                        transform: `translateY(${item.start}px)`,
                      }}
                    >
                      {row.kind === "group" ? <GroupRow row={row} /> : <HostRow host={row.host} search={search} />}
                    </div>
                  )
                );
              })}
            </div>
          </>
        )}
      </div>
    </main>
  );
}
