import type { HostSummary } from "../api/types";
import { columnOf } from "./columns";
import { customerOf } from "./emblem";

export type Grouping = "group" | "customer" | "none";

export type ListRow =
  { kind: "group"; path: string; hosts: number; away: number } | { kind: "host"; host: HostSummary };

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

const byName = new Intl.Collator(undefined, { numeric: true, sensitivity: "base" });

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

/** Hosts that a wish lets through, in its order, without headings. */
export function hostsOf(hosts: Iterable<HostSummary>, wish: ListWish): HostSummary[] {
  const found: HostSummary[] = [];
  for (const host of hosts) {
    // Retired hosts stand aside unless a selection names them.
    if (wish.selected ? !wish.selected.has(host.id) : host.retiredAt) continue;
    if (inScope(host, wish.scope) && (!wish.words || matches(host, wish.words))) found.push(host);
  }
  return found.sort(orderOf(wish.sorting));
}

function orderOf({ by, down }: Sorting): (a: HostSummary, b: HostSummary) => number {
  const column = columnOf(by);
  const sign = down ? -1 : 1;
  const name = (a: HostSummary, b: HostSummary) => byName.compare(a.label, b.label);
  if (!column) return (a, b) => sign * name(a, b);
  const key = column.order ?? ((h: HostSummary) => column.text(h, 0));
  const keys = new Map<HostSummary, number | string>();
  const keyOf = (h: HostSummary) => {
    let k = keys.get(h);
    if (k === undefined) keys.set(h, (k = key(h)));
    return k;
  };
  return (a, b) => {
    const [x, y] = [keyOf(a), keyOf(b)];
    const order = typeof x === "number" && typeof y === "number" ? x - y : byName.compare(String(x), String(y));
    return order ? sign * order : name(a, b);
  };
}

/** Ordered hosts under the headings of their groups or customers. */
export function rowsOf(ordered: HostSummary[], grouping: Grouping): ListRow[] {
  if (grouping === "none") return ordered.map((host) => ({ kind: "host", host }));
  const groups = new Map<string, HostSummary[]>();
  for (const host of ordered) {
    const path = grouping === "group" ? host.groupPath : customerOf(host.groupPath);
    const group = groups.get(path);
    if (group) group.push(host);
    else groups.set(path, [host]);
  }
  const rows: ListRow[] = [];
  for (const path of [...groups.keys()].sort(byName.compare)) {
    const members = groups.get(path) ?? [];
    rows.push({
      kind: "group",
      path,
      hosts: members.length,
      away: members.filter((h) => h.presence.state !== "linked").length,
    });
    for (const host of members) rows.push({ kind: "host", host });
  }
  return rows;
}

/** The path of a group as people read it. */
export const readable = (path: string) => path.split("/").join(" ▸ ");

/** A word as it must stand in a selection. */
export const quoted = (text: string) => `"${text.replaceAll("\\", "\\\\").replaceAll('"', '\\"')}"`;
