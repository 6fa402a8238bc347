import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import type { HostSummary } from "../api/types";
import { customerOf, type EmblemDesign } from "./emblem";
import { Flag } from "./Emblem";
import { hostsAt } from "./hostList";
import { HostAlerts } from "../health/severity";
import { Presence } from "./Presence";
import { useEmblems } from "./useCustomers";
import { useEstate } from "./useEstate";

const LEAST_WIDTH = 210;
const HEIGHT = 104;

/** Hosts as tiles, to be read from a step back. */
export function HostTiles({ ids, search }: { ids: string[]; search: string }) {
  const { hosts } = useEstate();
  const emblems = useEmblems();
  const list = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(1200);
  useEffect(() => {
    if (!list.current) return;
    const watch = new ResizeObserver(([entry]) => setWidth(entry?.contentRect.width ?? 1200));
    watch.observe(list.current);
    return () => watch.disconnect();
  }, []);
  const across = Math.max(1, Math.floor(width / LEAST_WIDTH));
  const virtual = useVirtualizer({
    count: Math.ceil(ids.length / across),
    getScrollElement: () => list.current,
    estimateSize: () => HEIGHT,
    overscan: 4,
    initialRect: { width: 1200, height: 800 },
  });
  return (
    <div className="hosts tiles" ref={list} role="region" aria-label="Hosts as tiles">
      <ul style={{ height: virtual.getTotalSize() }}>
        {virtual.getVirtualItems().flatMap((line) =>
          hostsAt(hosts, ids.slice(line.index * across, (line.index + 1) * across)).map((host, i) => (
            <li
              key={host.id}
              style={{ top: line.start, left: `${(100 / across) * i}%`, width: `${100 / across}%`, height: HEIGHT }}
            >
              <HostTile host={host} design={emblems(host.groupPath)} search={search} />
            </li>
          )),
        )}
      </ul>
    </div>
  );
}

/** One of them, drawn anew only when its host changes. */
const HostTile = memo(function HostTile({
  host,
  design,
  search,
}: {
  host: HostSummary;
  design: EmblemDesign;
  search: string;
}) {
  const high = [host.processorPercent, host.memoryUsedPercent, host.storageUsedPercent].some((v) => (v ?? 0) >= 90);
  return (
    <Link
      to={{ pathname: `/hosts/${host.id}`, search }}
      className={host.presence.state === "linked" ? "tile" : "tile away"}
      style={{ "--edge": design.field } as React.CSSProperties}
    >
      <b>
        {host.label}
        <HostAlerts host={host} />
      </b>
      <span className="muted whose">
        <Flag design={design} size={14} /> {customerOf(host.groupPath)}
      </span>
      {host.presence.state === "linked" ? (
        <span className={high ? "high" : "muted"}>
          {high
            ? `${worst(host)} high`
            : host.users.length > 0
              ? `${host.users.join(", ")} logged in`
              : "linked, nobody logged in"}
        </span>
      ) : (
        <Presence presence={host.presence} />
      )}
    </Link>
  );
});

function worst(host: HostSummary): string {
  const figures: [string, number | null | undefined][] = [
    ["storage", host.storageUsedPercent],
    ["memory", host.memoryUsedPercent],
    ["processor", host.processorPercent],
  ];
  const [name, value] = figures.find(([, v]) => (v ?? 0) >= 90) ?? ["", 0];
  return `${name} ${Math.round(value ?? 0)} %`;
}
