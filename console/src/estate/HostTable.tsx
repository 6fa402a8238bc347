import { Checkbox } from "@mantine/core";
import { useMediaQuery } from "@mantine/hooks";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import type { HostSummary } from "../api/types";
import { useNow } from "../parts/Ago";
import type { HostColumn } from "./columns";
import { Flag } from "./Emblem";
import { readable, type ListRow, type Sorting } from "./hostList";
import { Presence } from "./Presence";
import { OwnColour } from "./OwnColour";
import { useEmblems } from "./useCustomers";
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
  const emblems = useEmblems();
  const now = useNow();
  const list = useRef<HTMLDivElement>(null);
  const [at, setAt] = useState<string>();
  const narrow = useMediaQuery("(max-width: 700px)", window.innerWidth <= 700) ?? false;
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => list.current,
    estimateSize: (i) => (rows[i]?.kind === "group" ? 40 : narrow ? 56 : 44),
    getItemKey: (i) => {
      const row = rows[i];
      return row ? (row.kind === "group" ? `g ${row.path}` : row.host.id) : i;
    },
    overscan: 12,
    initialRect: { width: 1200, height: 800 },
  });
  useEffect(() => virtual.measure(), [virtual, narrow]);

  const template = `minmax(210px, 2fr) ${columns.map((c) => c.width).join(" ")}`;
  const least = 240 + columns.reduce((sum, c) => sum + Number(/(\d+)px/.exec(c.width)?.[1] ?? 120) + 12, 0);
  const first = rows.find((r) => r.kind === "host")?.host.id;
  const focusable = at && rows.some((r) => r.kind === "host" && r.host.id === at) ? at : first;

  const go = (from: string, step: number) => {
    const hosts = rows.map((r, index) => ({ r, index })).filter(({ r }) => r.kind === "host");
    const here = hosts.findIndex(({ r }) => r.kind === "host" && r.host.id === from);
    const next = hosts[Math.max(0, Math.min(hosts.length - 1, here + step))];
    if (next?.r.kind !== "host") return;
    const id = next.r.host.id;
    setAt(id);
    virtual.scrollToIndex(next.index);
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
          const edge = { "--edge": emblems(row.kind === "group" ? row.path : row.host.groupPath).field };
          return row.kind === "group" ? (
            <div key={item.key} className="hosts-item" style={place} role="row" aria-rowindex={item.index + 2}>
              <div className="hosts-group" role="cell" style={edge as React.CSSProperties}>
                <Flag design={emblems(row.path)} />
                <span>{readable(row.path)}</span>
                <span className="muted">
                  {row.hosts} {row.hosts === 1 ? "host" : "hosts"}
                  {row.away > 0 && `, ${row.away} away`}
                </span>
              </div>
            </div>
          ) : (
            <div
              key={item.key}
              className="hosts-item"
              style={place}
              role="row"
              aria-rowindex={item.index + 2}
              aria-selected={marks.marked.has(row.host.id)}
            >
              <div
                className={`hosts-row host${row.host.presence.state === "linked" ? "" : " away"}${marks.marked.has(row.host.id) ? " marked" : ""}`}
                style={{ ...edge, ...(narrow ? {} : { gridTemplateColumns: template }) } as React.CSSProperties}
              >
                <span className="host-first" role="cell">
                  <Checkbox
                    size="xs"
                    tabIndex={-1}
                    aria-label={`Mark ${row.host.label}`}
                    checked={marks.marked.has(row.host.id)}
                    onChange={() => undefined}
                    onClick={(e) => marks.toggle(row.host.id, e.shiftKey)}
                  />
                  <Link
                    className="host-name"
                    to={{ pathname: `/hosts/${row.host.id}`, search }}
                    data-host={row.host.id}
                    tabIndex={row.host.id === focusable ? 0 : -1}
                    onFocus={() => setAt(row.host.id)}
                  >
                    <b>
                      {own.get(row.host.id)?.pinned && (
                        <span className="pin" title="pinned by you">
                          <span aria-hidden="true">◆ </span>
                          <span className="hidden-text">pinned </span>
                        </span>
                      )}
                      {row.host.label}
                      <OwnColour mark={own.get(row.host.id)} />
                    </b>
                    <span className="mono">
                      {row.host.retiredAt
                        ? "retired"
                        : row.host.label === row.host.systemName
                          ? row.host.address
                          : row.host.systemName}
                    </span>
                  </Link>
                </span>
                {columns.map((c) => (
                  <span
                    key={c.id}
                    role="cell"
                    className={`${c.number ? "number " : ""}${c.id === "presence" ? "" : "wide"}`}
                  >
                    <Cell host={row.host} column={c} now={now} />
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
