import { useEffect, useMemo, useState } from "react";
import { columnOf } from "./columns";
import { inOrder, membersOf, rowsOf, type ListRow, type ListWish } from "./hostList";
import { useEstate } from "./useEstate";

/** How often an order by a figure that moves is renewed. */
const RENEW_MS = 3000;

/** Ids in their former order as far as they are still there, what is new after them. */
export function steady(before: string[], now: string[]): string[] {
  const there = new Set(now);
  const kept = before.filter((id) => there.has(id));
  const known = new Set(kept);
  return [...kept, ...now.filter((id) => !known.has(id))];
}

/**
 * Which hosts are in the list: `members` by their names, `ids` in order, and the list's rows with headings. The order is made anew
 * only when something changed that it goes by; while it is held (the pointer or the focus is in the list) nothing moves: what comes
 * goes to the end.
 */
export function useHostRows(wish: ListWish, held: boolean): { members: string[]; ids: string[]; rows: ListRow[] } {
  const { hosts, byName, shape } = useEstate();
  const { scope, words, selected, grouping } = wish;
  const { by, down } = wish.sorting;
  const [tick, setTick] = useState(0);
  const live = columnOf(by)?.live ?? false;
  useEffect(() => {
    if (!live || held) return;
    const timer = setInterval(() => setTick((t) => t + 1), RENEW_MS);
    return () => clearInterval(timer);
  }, [live, held]);

  // The map is changed in place; its shape says when another host may belong here, or stand elsewhere.
  const members = useMemo(
    () => membersOf(hosts, byName, { scope, words, selected }),
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [shape, hosts, scope, words, selected],
  );
  const fresh = useMemo(
    () => inOrder(hosts, members, { by, down }),
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [hosts, members, by, down, tick],
  );
  const wished = JSON.stringify([scope, words, by, down]);
  const [shown, setShown] = useState({ fresh, wished, held, ids: fresh });
  if (shown.fresh !== fresh || shown.wished !== wished || shown.held !== held) {
    const ids = held && shown.wished === wished ? steady(shown.ids, fresh) : fresh;
    setShown({ fresh, wished, held, ids });
  }
  const ids = shown.ids;
  const rows = useMemo(
    () => rowsOf(hosts, ids, grouping),
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [ids, shape, hosts, grouping],
  );
  return { members, ids, rows };
}
