import { useMediaQuery } from "@mantine/hooks";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import type { HostSummary } from "../api/types";
import type { HostColumn } from "./columns";
import type { EmblemDesign } from "./emblem";
import { Flag } from "./Emblem";
import { readable, type ListRow, type Sorting } from "./hostList";
import { HostRow } from "./HostRow";
import { useEmblems } from "./useCustomers";
import { useEstate } from "./useEstate";
import type { OwnMark } from "./useMarks";

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
  const first = useMemo(() => rows.find((row) => row.kind === "host")?.id, [rows]);
  const focusable = useMemo(
    () => (at && rows.some((r) => r.kind === "host" && r.id === at) ? at : first),
    [rows, at, first],
  );

  const go = (from: string, step: number) => {
    const order = rows.flatMap((row, index) => (row.kind === "host" ? [{ id: row.id, index }] : []));
    const next = order[Math.max(0, Math.min(order.length - 1, order.findIndex((row) => row.id === from) + step))];
    if (!next) return;
    const { id, index } = next;
    setAt(id);
    virtual.scrollToIndex(index);
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
        onClick={(e) => {
          const id = (e.target as HTMLElement).dataset.mark;
          if (id) marks.toggle(id, e.shiftKey);
        }}
        onFocus={(e) => {
          const id = e.target.dataset.host;
          if (id) setAt(id);
        }}
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
          return (
            <div
              key={item.key}
              className="hosts-item"
              style={place}
              role="row"
              aria-rowindex={item.index + 2}
              aria-selected={marks.marked.has(host.id)}
            >
              <HostRow
                host={host}
                columns={columns}
                tracks={narrow ? undefined : template}
                edge={emblems(host.groupPath).field}
                marked={marks.marked.has(host.id)}
                own={own.get(host.id)}
                focusable={host.id === focusable}
                search={search}
              />
            </div>
          );
        })}
      </div>
    </div>
  );
}
