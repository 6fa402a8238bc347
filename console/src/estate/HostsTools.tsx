import { Button, Menu, SegmentedControl } from "@mantine/core";
import { memo, useState, type RefObject } from "react";
import { save } from "../parts/file";
import { ColumnMenu } from "./ColumnMenu";
import { toCsv, toJson } from "./exportHosts";
import { estateStore } from "./estateStore";
import { hostsAt } from "./hostList";
import { SavedSelections } from "./SavedSelections";
import { SelectionField } from "./SelectionField";
import type { HostsView } from "./useHostsView";

interface Tools {
  view: HostsView;
  /** What is wrong with the selection, if it is one. */
  problem: string | undefined;
  pinned: number;
  recent: number;
  /** The hosts in the list when it is asked for: what is drawn here does not follow them. */
  shown: RefObject<readonly string[]>;
}

/** What narrows, groups and exports the list. It stands still while hosts come and change. */
export const HostsTools = memo(function HostsTools({ view, problem, pinned, recent, shown }: Tools) {
  return (
    <>
      <div className="hosts-tools">
        <SelectionField
          value={view.on}
          onChange={(text) => view.change({ on: text })}
          label="Narrow by words or a selection"
          placeholder="narrow: words, or a selection like  memory.free < 1 GiB"
          problem={problem}
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
        <ExportMenu view={view} shown={shown} />
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
            <span className="muted">&nbsp;{which === "pinned" ? pinned : recent}</span>
          </Button>
        ))}
      </SavedSelections>
    </>
  );
});

/** The hosts that were in the list when the menu was opened, as a file. */
function ExportMenu({ view, shown }: Pick<Tools, "view" | "shown">) {
  const [ids, setIds] = useState<readonly string[]>([]);
  const hosts = () => hostsAt(estateStore.get().hosts, ids);
  return (
    <Menu position="bottom-end" shadow="md" onOpen={() => setIds(shown.current)}>
      <Menu.Target>
        <Button variant="default" size="sm">
          Export
        </Button>
      </Menu.Target>
      <Menu.Dropdown>
        <Menu.Item onClick={() => save("hosts.csv", "text/csv", toCsv(hosts(), view.columns, Date.now()))}>
          These {ids.length} hosts as CSV, with the columns shown
        </Menu.Item>
        <Menu.Item onClick={() => save("hosts.json", "application/json", toJson(hosts()))}>
          These {ids.length} hosts as JSON
        </Menu.Item>
      </Menu.Dropdown>
    </Menu>
  );
}
