import type { HostSummary } from "../api/types";
import { columnOf } from "./columns";
import { customerOf } from "./emblem";
import { naturalKey } from "./naturalOrder";

export type Grouping = "group" | "customer" | "none";

/** A line of the list: a heading with the hosts below it, or a host. It names hosts and does not hold them, so that it stands while they change. */
export type ListRow = { kind: "group"; path: string; ids: string[] } | { kind: "host"; id: string };

export interface Sorting {
  /** A column, or "label". */
  by: string;
  down: boolean;
}

/** What narrows and orders a list of hosts. */
export interface ListWish {
  scope: string;
  /** Words that must all be found. */
  words: string;
  /** Only these, when a selection is in force. */
  selected?: ReadonlySet<string> | undefined;
  grouping: Grouping;
  sorting: Sorting;
}

/** The hosts of these ids that are still there. */
export const hostsAt = (hosts: ReadonlyMap<string, HostSummary>, ids: readonly string[]) =>
  ids.map((id) => hosts.get(id)).filter((h) => h !== undefined);

/** True for what stands in the scope's group or below it. */
export function inScope(item: { groupPath: string }, scope: string): boolean {
  return scope === "" || item.groupPath === scope || item.groupPath.startsWith(scope + "/");
}

const texts = new WeakMap<HostSummary, string>();

function textOf(host: HostSummary): string {
  let text = texts.get(host);
  if (text === undefined) {
    text = [host.label, host.systemName, host.groupPath, host.address ?? "", ...host.users, ...host.tags]
      .join("\n")
      .toLowerCase();
    texts.set(host, text);
  }
  return text;
}

/** True when every typed word stands somewhere in the host's names, group, address, tags, or the people logged in. */
export function matches(host: HostSummary, typed: string): boolean {
  const words = typed.toLowerCase().split(/\s+/);
  const text = textOf(host);
  return words.every((word) => text.includes(word));
}

/** True for text that can only be a selection: it has one of its signs, or begins as one of its conditions does. */
export function isSelection(text: string): boolean {
  return (
    /[*?<>=()",]/.test(text) ||
    /^\s*(all\s*$|in\s|is\s|not\s|tagged\s|used\s+by|saved\s|field\s|fact\s)/i.test(text) ||
    /\s(and|or)\s/i.test(text)
  );
}

/**
 * The ids of the hosts that a wish lets through, in the order in which they come.
 *
 * @param byName - the ids of all of them by their names
 */
export function membersOf(
  hosts: ReadonlyMap<string, HostSummary>,
  byName: readonly string[],
  wish: Pick<ListWish, "scope" | "words" | "selected">,
): string[] {
  return byName.filter((id) => {
    const host = hosts.get(id);
    // Retired hosts stand aside unless a selection names them.
    if (!host || (wish.selected ? !wish.selected.has(id) : host.retiredAt)) return false;
    return inScope(host, wish.scope) && (!wish.words || matches(host, wish.words));
  });
}

type Key = number | string;

const compare = (a: Key, b: Key) => (a < b ? -1 : a > b ? 1 : 0);

/** Ids that come by their names in the order of a column; what each is ordered by is made once for each. What is alike stays by name. */
export function inOrder(
  hosts: ReadonlyMap<string, HostSummary>,
  members: readonly string[],
  { by, down }: Sorting,
): string[] {
  const column = columnOf(by);
  if (!column) return down ? members.toReversed() : [...members];
  const keys = members.map((id): Key => {
    const host = hosts.get(id);
    if (!host) return "";
    const key: Key = column.order ? column.order(host) : column.text(host, 0);
    return typeof key === "number" ? key : naturalKey(key);
  });
  const key = (i: number) => keys[i] ?? "";
  return members
    .map((_, i) => i)
    .sort(down ? (a, b) => compare(key(b), key(a)) : (a, b) => compare(key(a), key(b)))
    .map((i) => members[i] ?? "");
}

/** Hosts that a wish lets through, in its order, without headings. */
export const hostsOf = (
  hosts: ReadonlyMap<string, HostSummary>,
  byName: readonly string[],
  wish: ListWish,
): HostSummary[] => hostsAt(hosts, inOrder(hosts, membersOf(hosts, byName, wish), wish.sorting));

/** Ordered hosts under the headings of their groups or customers. */
export function rowsOf(
  hosts: ReadonlyMap<string, HostSummary>,
  ordered: readonly string[],
  grouping: Grouping,
): ListRow[] {
  if (grouping === "none") return ordered.map((id) => ({ kind: "host", id }));
  const groups = new Map<string, string[]>();
  for (const id of ordered) {
    const groupPath = hosts.get(id)?.groupPath;
    if (groupPath === undefined) continue;
    const path = grouping === "group" ? groupPath : customerOf(groupPath);
    const group = groups.get(path);
    if (group) group.push(id);
    else groups.set(path, [id]);
  }
  const rows: ListRow[] = [];
  for (const [path, ids] of [...groups].sort(([a], [b]) => compare(naturalKey(a), naturalKey(b)))) {
    rows.push({ kind: "group", path, ids });
    for (const id of ids) rows.push({ kind: "host", id });
  }
  return rows;
}

/** The path of a group as people read it. */
export const readable = (path: string) => path.split("/").join(" ▸ ");

/** A word as it must stand in a selection. */
export const quoted = (text: string) => `"${text.replaceAll("\\", "\\\\").replaceAll('"', '\\"')}"`;

/** A selection that names exactly this host: its name and its group. */
export function selectionOf(host: HostSummary): string {
  return `${quoted(host.label)} and in ${quoted(host.groupPath)}`;
}
