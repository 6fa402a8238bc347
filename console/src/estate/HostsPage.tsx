import { Button, Menu, SegmentedControl } from "@mantine/core";
import { useMemo, useState } from "react";
import { useLocation } from "react-router";
import { useMe } from "../access/useMay";
import { Empty } from "../parts/Trouble";
import { BulkBar } from "./BulkBar";
import { ColumnMenu } from "./ColumnMenu";
import { save } from "../parts/file";
import { toCsv, toJson } from "./exportHosts";
import { hostsAt, isSelection } from "./hostList";
import { HostsTabs } from "./HostsTabs";
import { HostTable } from "./HostTable";
import { HostTiles } from "./HostTiles";
import { SavedSelections } from "./SavedSelections";
import { NoHostYet } from "./NoHostYet";
import { SelectionField } from "./SelectionField";
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
  const { ids, rows } = useHostRows(
    {
      scope,
      words: selection ? "" : view.on,
      selected: only,
      grouping: view.grouping,
      sorting: view.sorting,
    },
    held,
  );
  const linked = useMemo(
    () => ids.reduce((count, id) => count + (estate.hosts.get(id)?.presence.state === "linked" ? 1 : 0), 0),
    // The map is changed in place; its standing says when another number is linked.
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [ids, estate.hosts, estate.standing],
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
      <div className="hosts-tools">
        <SelectionField
          value={view.on}
          onChange={(text) => view.change({ on: text })}
          label="Narrow by words or a selection"
          placeholder="narrow: words, or a selection like  memory.free < 1 GiB"
          problem={selected.problem}
        />
        {view.shape === "table" && (
          <SegmentedControl
            size="sm"
            aria-label="Under which headings"
            data={[
              { value: "group", label: "By group" },
              { value: "customer", label: "By customer" },
              { value: "none", label: "Flat" },
            ]}
            value={view.grouping}
            onChange={(v) => view.change({ group: v === "group" ? "" : v })}
          />
        )}
        <SegmentedControl
          size="sm"
          aria-label="Shown as"
          data={[
            { value: "table", label: "Table" },
            { value: "tiles", label: "Tiles" },
          ]}
          value={view.shape}
          onChange={(v) => view.change({ as: v === "table" ? "" : v })}
        />
        {view.shape === "table" && <ColumnMenu shown={view.columns.map((c) => c.id)} onChange={view.setColumns} />}
        <Menu position="bottom-end" shadow="md">
          <Menu.Target>
            <Button variant="default" size="sm">
              Export
            </Button>
          </Menu.Target>
          <Menu.Dropdown>
            <Menu.Item
              onClick={() => save("hosts.csv", "text/csv", toCsv(hostsAt(estate.hosts, ids), view.columns, Date.now()))}
            >
              These {ids.length} hosts as CSV, with the columns shown
            </Menu.Item>
            <Menu.Item onClick={() => save("hosts.json", "application/json", toJson(hostsAt(estate.hosts, ids)))}>
              These {ids.length} hosts as JSON
            </Menu.Item>
          </Menu.Dropdown>
        </Menu>
      </div>
      <SavedSelections on={view.on} onChange={(text) => view.change({ on: text })}>
        {(["pinned", "recent"] as const).map((which) => (
          <Button
            key={which}
            size="compact-sm"
            variant="default"
            className={view.mine === which ? "in-force" : ""}
            aria-pressed={view.mine === which}
            onClick={() => view.change({ mine: view.mine === which ? "" : which })}
          >
            {which === "pinned" ? "◆ Pinned" : "Opened lately"}
            <span className="muted">&nbsp;{ownIds[which].size}</span>
          </Button>
        ))}
      </SavedSelections>
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
