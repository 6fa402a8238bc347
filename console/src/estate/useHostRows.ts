import { useEffect, useMemo, useState } from "react";
import { columnOf } from "./columns";
import { hostsAt, hostsOf, rowsOf, type ListRow, type ListWish } from "./hostList";
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
 * Which hosts are in the list, in order, and its rows with headings. The order is made anew only when something changed that it
 * goes by; while it is held (the pointer or the focus is in the list) nothing moves: what comes goes to the end.
 */
export function useHostRows(wish: ListWish, held: boolean): { ids: string[]; rows: ListRow[] } {
  const estate = useEstate();
  const [tick, setTick] = useState(0);
  const live = columnOf(wish.sorting.by)?.live ?? false;
  useEffect(() => {
    if (!live || held) return;
    const timer = setInterval(() => setTick((t) => t + 1), RENEW_MS);
    return () => clearInterval(timer);
  }, [live, held]);

  const wished = JSON.stringify([wish.scope, wish.words, wish.sorting]);
  const fresh = useMemo(
    () => hostsOf(estate.hosts, estate.byName, wish).map((h) => h.id),
    // The map is changed in place; its shape says when the order may be another.
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [estate.shape, estate.hosts, wished, wish.selected, tick],
  );
  const [shown, setShown] = useState({ fresh, wished, held, ids: fresh });
  if (shown.fresh !== fresh || shown.wished !== wished || shown.held !== held) {
    const ids = held && shown.wished === wished ? steady(shown.ids, fresh) : fresh;
    setShown({ fresh, wished, held, ids });
  }
  const ids = shown.ids;
  const rows = useMemo(
    () => rowsOf(hostsAt(estate.hosts, ids), wish.grouping),
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [ids, estate.shape, estate.hosts, wish.grouping],
  );
  return { ids, rows };
}
