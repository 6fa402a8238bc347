import { useEffect, useState } from "react";
import { follow } from "../api/live";
import type { SelectionChanges } from "../api/types";

export interface Selected {
  /** Undefined until the service has answered. */
  ids: ReadonlySet<string> | undefined;
  problem: string | undefined;
}

export function take(before: ReadonlySet<string> | undefined, changes: SelectionChanges): ReadonlySet<string> {
  const ids = new Set(changes.reset ? [] : before);
  for (const id of changes.added) ids.add(id);
  for (const id of changes.removed) ids.delete(id);
  return ids;
}

const asking: Selected = { ids: undefined, problem: undefined };

/** The hosts of a selection, kept up to date by the service; nothing for an empty text. */
export function useSelected(selection: string): Selected {
  const [state, setState] = useState<{ of: string; selected: Selected }>({ of: "", selected: asking });
  useEffect(() => {
    if (!selection) return;
    return follow<SelectionChanges>(
      "Selected",
      [selection],
      (changes) =>
        setState((s) => ({
          of: selection,
          selected: { ids: take(s.of === selection ? s.selected.ids : undefined, changes), problem: undefined },
        })),
      (line, why) => {
        // What the service says of a selection that it can't read; a line that merely broke is told elsewhere.
        const said = /HubException: (.*)$/.exec(why ?? "")?.[1];
        if (line === "broken" && said) setState({ of: selection, selected: { ids: undefined, problem: said } });
      },
    );
  }, [selection]);
  return state.of === selection ? state.selected : asking;
}
