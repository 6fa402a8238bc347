import { useEffect, useMemo, useRef, useState } from "react";
import { useLocation } from "react-router";
import { useMe } from "../access/useMay";
import { Empty } from "../parts/Trouble";
import { BulkBar } from "./BulkBar";
import { hostsAt, isSelection } from "./hostList";
import { HostsTabs } from "./HostsTabs";
import { HostTable } from "./HostTable";
import { HostTiles } from "./HostTiles";
import { HostsTools } from "./HostsTools";
import { NoHostYet } from "./NoHostYet";
import { useEstate, useScope } from "./useEstate";
import { useHostRows } from "./useHostRows";
import { useHostsView } from "./useHostsView";
import { useMarks } from "./useMarks";
import { useSelected } from "./useSelected";

const nothing: ReadonlySet<string> = new Set();

export function HostsPage() {
  const me = useMe();
  const estate = useEstate();
  const [scope] = useScope();
  const view = useHostsView();
  const location = useLocation();
  const selection = isSelection(view.on) ? view.on : "";
  const selected = useSelected(selection);
  const [held, setHeld] = useState(false);
  const [marked, setMarked] = useState<ReadonlySet<string>>(new Set());
  const [last, setLast] = useState<string>();
  const own = useMarks();
  const ownIds = useMemo(
    () => ({
      pinned: new Set([...own].filter(([id, m]) => m.pinned && estate.hosts.has(id)).map(([id]) => id)),
      recent: new Set([...own].filter(([id, m]) => m.openedAt && estate.hosts.has(id)).map(([id]) => id)),
    }),
    // The map is changed in place; its shape says when hosts came or went.
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [own, estate.hosts, estate.shape],
  );
  const only = useMemo(() => {
    const bySelection = selection ? (selected.ids ?? nothing) : undefined;
    const byMine = view.mine ? ownIds[view.mine] : undefined;
    return bySelection && byMine ? new Set([...byMine].filter((id) => bySelection.has(id))) : (bySelection ?? byMine);
  }, [selection, selected.ids, view.mine, ownIds]);
  const { members, ids, rows } = useHostRows(
    {
      scope,
      words: selection ? "" : view.on,
      selected: only,
      grouping: view.grouping,
      sorting: view.sorting,
    },
    held,
  );
  const shown = useRef<readonly string[]>(ids);
  useEffect(() => {
    shown.current = ids;
  }, [ids]);
  const linked = useMemo(
    () => members.reduce((count, id) => count + (estate.hosts.get(id)?.presence.state === "linked" ? 1 : 0), 0),
    // The map is changed in place; its standing says when another number is linked.
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [members, estate.hosts, estate.standing],
  );
  const markedHosts =
    marked.size === 0
      ? []
      : hostsAt(
          estate.hosts,
          ids.filter((id) => marked.has(id)),
        );
  const waiting = !estate.known || (selection !== "" && !selected.ids && !selected.problem);

  const toggle = (id: string, through: boolean) => {
    const next = new Set(marked);
    const order = rows.flatMap((r) => (r.kind === "host" ? [r.id] : []));
    const [a, b] = [order.indexOf(last ?? id), order.indexOf(id)];
    if (through && a >= 0) for (const i of order.slice(Math.min(a, b), Math.max(a, b) + 1)) next.add(i);
    else if (!next.delete(id)) next.add(id);
    setMarked(next);
    setLast(id);
  };
  const sort = (by: string) => {
    const down = view.sorting.by === by && !view.sorting.down;
    view.change({ sort: by === "label" && !down ? "" : `${down ? "-" : ""}${by}` });
  };

  return (
    <main className="page">
      <div className="page-head">
        <h1>Hosts</h1>
        <HostsTabs />
        <div className="counts" aria-live="polite">
          <span>
            <b>{ids.length}</b> {view.on || view.mine ? "found" : "in all"}
          </span>
          <span>
            <b>{linked}</b> linked
          </span>
          <span>
            <b>{ids.length - linked}</b> away
          </span>
        </div>
      </div>
      <HostsTools
        view={view}
        problem={selected.problem}
        pinned={ownIds.pinned.size}
        recent={ownIds.recent.size}
        shown={shown}
      />
      {markedHosts.length > 0 && <BulkBar hosts={markedHosts} onClear={() => setMarked(new Set())} />}
      <div
        onPointerEnter={() => setHeld(true)}
        onPointerLeave={() => setHeld(false)}
        onFocus={() => setHeld(true)}
        onBlur={() => setHeld(false)}
      >
        {rows.length === 0 ? (
          <div className="hosts">
            {waiting ? (
              <Empty title="Asking the service …" />
            ) : me && !me.anywhere.includes("see") ? (
              <Empty title="You may see no host yet">{me.canChange.join(", ")} can give you a role.</Empty>
            ) : estate.hosts.size === 0 ? (
              <NoHostYet />
            ) : selected.problem ? (
              <Empty title="The selection can’t be read">What is wrong stands below the field.</Empty>
            ) : (
              <Empty title="No host matches">Type less, or widen the scope above.</Empty>
            )}
          </div>
        ) : view.shape === "tiles" ? (
          <HostTiles ids={ids} search={location.search} />
        ) : (
          <HostTable
            rows={rows}
            columns={view.columns}
            sorting={view.sorting}
            onSort={sort}
            marks={{ marked, toggle }}
            search={scope ? `?scope=${encodeURIComponent(scope)}` : ""}
            own={own}
          />
        )}
      </div>
    </main>
  );
}
