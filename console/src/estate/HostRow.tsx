import { memo } from "react";
import { Link } from "react-router";
import type { HostSummary } from "../api/types";
import { HostAlerts } from "../health/severity";
import { useNow } from "../parts/Ago";
import type { HostColumn } from "./columns";
import { OwnColour } from "./OwnColour";
import { Presence } from "./Presence";
import type { OwnMark } from "./useMarks";

const HIGH_PERCENT = 90;

function Cell({ host, column, now }: { host: HostSummary; column: HostColumn; now: number }) {
  if (column.id === "presence") return <Presence presence={host.presence} />;
  const text = column.text(host, now);
  const value =
    column.id === "processor"
      ? host.processorPercent
      : column.id === "memory"
        ? host.memoryUsedPercent
        : column.id === "storage"
          ? host.storageUsedPercent
          : null;
  const high = value != null && value >= HIGH_PERCENT;
  return (
    <span className={high ? "cell high" : text === "nobody" || text === "–" ? "cell muted" : "cell"} title={text}>
      {text}
      {high && <span className="hidden-text"> high</span>}
    </span>
  );
}

/**
 * A host's line in the table, drawn anew only when the host itself or its look changes: many change each second, few of them in
 * sight. Clicks, keys and the focus are the table's; it finds the host by `data-host` and the box by `data-mark`.
 */
export const HostRow = memo(function HostRow({
  host,
  columns,
  tracks,
  edge,
  marked,
  own,
  focusable,
  search,
}: {
  host: HostSummary;
  columns: HostColumn[];
  /** The grid's tracks; undefined where the row is laid out as a card. */
  tracks: string | undefined;
  /** The colour of the host's customer. */
  edge: string;
  marked: boolean;
  own: OwnMark | undefined;
  focusable: boolean;
  search: string;
}) {
  const now = useNow();
  return (
    <div
      className={`hosts-row host${host.presence.state === "linked" ? "" : " away"}${marked ? " marked" : ""}`}
      style={{ "--edge": edge, ...(tracks ? { gridTemplateColumns: tracks } : {}) } as React.CSSProperties}
    >
      <span className="host-first" role="cell">
        <input
          type="checkbox"
          className="row-mark"
          tabIndex={-1}
          aria-label={`Mark ${host.label}`}
          checked={marked}
          readOnly
          data-mark={host.id}
        />
        <Link
          className="host-name"
          to={{ pathname: `/hosts/${host.id}`, search }}
          data-host={host.id}
          tabIndex={focusable ? 0 : -1}
        >
          <b>
            {own?.pinned && (
              <span className="pin" title="pinned by you">
                <span aria-hidden="true">◆ </span>
                <span className="hidden-text">pinned </span>
              </span>
            )}
            {host.label}
            <OwnColour mark={own} />
            <HostAlerts host={host} />
          </b>
          <span className="mono">
            {host.retiredAt ? "retired" : host.label === host.systemName ? host.address : host.systemName}
          </span>
        </Link>
      </span>
      {columns.map((c) => (
        <span key={c.id} role="cell" className={`${c.number ? "number " : ""}${c.id === "presence" ? "" : "wide"}`}>
          <Cell host={host} column={c} now={now} />
        </span>
      ))}
    </div>
  );
});
