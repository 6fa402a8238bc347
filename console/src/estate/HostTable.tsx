import { useMediaQuery } from "@mantine/hooks";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import type { HostSummary } from "../api/types";
import { useNow } from "../parts/Ago";
import type { HostColumn } from "./columns";
import type { EmblemDesign } from "./emblem";
import { Flag } from "./Emblem";
import { readable, type ListRow, type Sorting } from "./hostList";
import { HostAlerts } from "../health/severity";
import { Presence } from "./Presence";
import { OwnColour } from "./OwnColour";
import { useEmblems } from "./useCustomers";
import { useEstate } from "./useEstate";
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

export interface Marks {
  marked: ReadonlySet<string>;
  /** Marks or unmarks one, or with `through` everything from the last one to it. */
  toggle: (id: string, through: boolean) => void;
}

/** A group's or customer's line above its hosts. */
function Heading({
  row,
  hosts,
  design,
}: {
  row: ListRow & { kind: "group" };
  hosts: ReadonlyMap<string, HostSummary>;
  design: EmblemDesign;
}) {
  const away = row.ids.reduce((n, id) => n + (hosts.get(id)?.presence.state === "linked" ? 0 : 1), 0);
  return (
    <div className="hosts-group" role="cell" style={{ "--edge": design.field } as React.CSSProperties}>
      <Flag design={design} />
      <span>{readable(row.path)}</span>
      <span className="muted">
        {row.ids.length} {row.ids.length === 1 ? "host" : "hosts"}
        {away > 0 && `, ${away} away`}
      </span>
    </div>
  );
}

/** Hosts as a table of which only what is in sight is drawn. Arrow keys go through it, Space marks, Enter opens. */
export function HostTable({
  rows,
  columns,
  sorting,
  onSort,
  marks,
  search,
  own,
}: {
  rows: ListRow[];
  columns: HostColumn[];
  sorting: Sorting;
  onSort: (by: string) => void;
  marks: Marks;
  search: string;
  own: ReadonlyMap<string, OwnMark>;
}) {
  const navigate = useNavigate();
  const { hosts } = useEstate();
  const emblems = useEmblems();
  const now = useNow();
  const list = useRef<HTMLDivElement>(null);
  const [at, setAt] = useState<string>();
  const narrow = useMediaQuery("(max-width: 700px)", window.innerWidth <= 700) ?? false;
  // One and the same while the rows are: another one makes all places be computed anew.
  const keyAt = useCallback(
    (i: number) => {
      const row = rows[i];
      return row ? (row.kind === "group" ? `g ${row.path}` : row.id) : i;
    },
    [rows],
  );
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => list.current,
    estimateSize: (i) => (rows[i]?.kind === "group" ? 40 : narrow ? 56 : 44),
    getItemKey: keyAt,
    overscan: 6,
    initialRect: { width: 1200, height: 800 },
  });
  useEffect(() => virtual.measure(), [virtual, narrow]);

  const template = `minmax(210px, 2fr) ${columns.map((c) => c.width).join(" ")}`;
  const least = 240 + columns.reduce((sum, c) => sum + Number(/(\d+)px/.exec(c.width)?.[1] ?? 120) + 12, 0);
  /** Where each host stands. */
  const places = useMemo(() => {
    const found = new Map<string, number>();
    for (const [index, row] of rows.entries()) if (row.kind === "host") found.set(row.id, index);
    return found;
  }, [rows]);
  const [first] = places.keys();
  const focusable = at && places.has(at) ? at : first;

  const go = (from: string, step: number) => {
    const order = [...places.keys()];
    const id = order[Math.max(0, Math.min(order.length - 1, order.indexOf(from) + step))];
    if (id === undefined) return;
    setAt(id);
    virtual.scrollToIndex(places.get(id) ?? 0);
    // The row may have to be drawn before it can be focused.
    requestAnimationFrame(() =>
      requestAnimationFrame(() => list.current?.querySelector<HTMLElement>(`[data-host="${id}"]`)?.focus()),
    );
  };
  const onKeyDown = (e: React.KeyboardEvent) => {
    const id = (e.target as HTMLElement).dataset.host;
    if (!id) return;
    const step = { ArrowDown: 1, ArrowUp: -1, PageDown: 12, PageUp: -12, Home: -Infinity, End: Infinity }[e.key];
    if (step) {
      e.preventDefault();
      go(id, Number.isFinite(step) ? step : step > 0 ? rows.length : -rows.length);
    } else if (e.key === " ") {
      e.preventDefault();
      marks.toggle(id, e.shiftKey);
    } else if (e.key === "Enter") {
      e.preventDefault();
      void navigate({ pathname: `/hosts/${id}`, search });
    }
  };

  const head = (id: string, title: string, number: boolean) => (
    <span
      key={id}
      role="columnheader"
      className={number ? "number wide" : id === "label" ? "" : "wide"}
      aria-sort={sorting.by === id ? (sorting.down ? "descending" : "ascending") : "none"}
    >
      <button type="button" onClick={() => onSort(id)} title={`Order by ${title.toLowerCase()}`}>
        {title}
        {sorting.by === id && <span aria-hidden="true">{sorting.down ? " ↓" : " ↑"}</span>}
      </button>
    </span>
  );

  return (
    <div className="hosts" ref={list} role="table" aria-label="Hosts" aria-rowcount={rows.length + 1}>
      <div role="rowgroup" style={{ minWidth: narrow ? 0 : least }}>
        <div className="hosts-row hosts-head" role="row" style={narrow ? {} : { gridTemplateColumns: template }}>
          {head("label", "Host", false)}
          {columns.map((c) => head(c.id, c.title, c.number ?? false))}
        </div>
      </div>
      <div
        role="rowgroup"
        onKeyDown={onKeyDown}
        style={{ height: virtual.getTotalSize(), position: "relative", minWidth: narrow ? 0 : least }}
      >
        {virtual.getVirtualItems().map((item) => {
          const row = rows[item.index];
          if (!row) return null;
          const place = { transform: `translateY(${item.start}px)` };
          if (row.kind === "group") {
            return (
              <div key={item.key} className="hosts-item" style={place} role="row" aria-rowindex={item.index + 2}>
                <Heading row={row} hosts={hosts} design={emblems(row.path)} />
              </div>
            );
          }
          const host = hosts.get(row.id);
          if (!host) return null;
          const edge = { "--edge": emblems(host.groupPath).field };
          return (
            <div
              key={item.key}
              className="hosts-item"
              style={place}
              role="row"
              aria-rowindex={item.index + 2}
              aria-selected={marks.marked.has(host.id)}
            >
              <div
                className={`hosts-row host${host.presence.state === "linked" ? "" : " away"}${marks.marked.has(host.id) ? " marked" : ""}`}
                style={{ ...edge, ...(narrow ? {} : { gridTemplateColumns: template }) } as React.CSSProperties}
              >
                <span className="host-first" role="cell">
                  <input
                    type="checkbox"
                    className="row-mark"
                    tabIndex={-1}
                    aria-label={`Mark ${host.label}`}
                    checked={marks.marked.has(host.id)}
                    onChange={() => undefined}
                    onClick={(e) => marks.toggle(host.id, e.shiftKey)}
                  />
                  <Link
                    className="host-name"
                    to={{ pathname: `/hosts/${host.id}`, search }}
                    data-host={host.id}
                    tabIndex={host.id === focusable ? 0 : -1}
                    onFocus={() => setAt(host.id)}
                  >
                    <b>
                      {own.get(host.id)?.pinned && (
                        <span className="pin" title="pinned by you">
                          <span aria-hidden="true">◆ </span>
                          <span className="hidden-text">pinned </span>
                        </span>
                      )}
                      {host.label}
                      <OwnColour mark={own.get(host.id)} />
                      <HostAlerts host={host} />
                    </b>
                    <span className="mono">
                      {host.retiredAt ? "retired" : host.label === host.systemName ? host.address : host.systemName}
                    </span>
                  </Link>
                </span>
                {columns.map((c) => (
                  <span
                    key={c.id}
                    role="cell"
                    className={`${c.number ? "number " : ""}${c.id === "presence" ? "" : "wide"}`}
                  >
                    <Cell host={host} column={c} now={now} />
                  </span>
                ))}
              </div>
            </div>
          );
        })}
      </div>
    </div>
  );
}
