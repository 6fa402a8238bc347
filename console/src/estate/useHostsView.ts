import { useMemo } from "react";
import { useSearchParams } from "react-router";
import { usePreference } from "../parts/usePreference";
import { columnsOf, usualColumns, type HostColumn } from "./columns";
import type { Grouping, Sorting } from "./hostList";

export type Shape = "table" | "tiles";

export interface HostsView {
  /** What is typed to narrow the list: words or a selection. */
  on: string;
  /** Only what the technician pinned, or opened lately. */
  mine: "" | "pinned" | "recent";
  grouping: Grouping;
  sorting: Sorting;
  shape: Shape;
  columns: HostColumn[];
  change: (change: Partial<Record<"on" | "mine" | "group" | "sort" | "as" | "columns", string>>) => void;
  setColumns: (ids: string[]) => void;
}

const groupings: Grouping[] = ["group", "customer", "none"];

/**
 * How the hosts page stands: all of it is in the address, so that a link shows a colleague the same. Columns that the address does
 * not name are those that the technician keeps.
 */
export function useHostsView(): HostsView {
  const [params, setParams] = useSearchParams();
  const [kept, keep] = usePreference<string[]>("hosts.columns", usualColumns);
  return useMemo(() => {
    const mine = params.get("mine");
    const sort = params.get("sort") ?? "label";
    const named = params.get("columns")?.split(",");
    const columns = columnsOf(named ?? kept);
    const change: HostsView["change"] = (wish) =>
      setParams(
        (before) => {
          const next = new URLSearchParams(before);
          for (const [name, value] of Object.entries(wish)) {
            if (value) next.set(name, value);
            else next.delete(name);
          }
          return next;
        },
        { replace: true },
      );
    return {
      on: params.get("on") ?? "",
      mine: mine === "pinned" || mine === "recent" ? mine : "",
      grouping: groupings.find((g) => g === params.get("group")) ?? "group",
      sorting: { by: sort.replace(/^-/, ""), down: sort.startsWith("-") },
      shape: params.get("as") === "tiles" ? "tiles" : "table",
      columns: columns.length > 0 ? columns : columnsOf(usualColumns),
      change,
      setColumns: (ids) => {
        keep(ids);
        if (named) change({ columns: ids.join(",") });
      },
    };
  }, [params, setParams, kept, keep]);
}
