import type { HostSummary } from "../api/types";

export type ListRow =
  { kind: "group"; path: string; hosts: number; away: number } | { kind: "host"; host: HostSummary };

const byName = new Intl.Collator(undefined, { numeric: true, sensitivity: "base" });

/** True for what stands in the scope's group or below it. */
export function inScope(item: { groupPath: string }, scope: string): boolean {
  return scope === "" || item.groupPath === scope || item.groupPath.startsWith(scope + "/");
}

/** True when every typed word stands somewhere in the host's names, group, address, or the people logged in. */
export function matches(host: HostSummary, typed: string): boolean {
  const text = [host.label, host.systemName, host.groupPath, host.address ?? "", ...host.users]
    .join("\n")
    .toLowerCase();
  return typed
    .toLowerCase()
    .split(/\s+/)
    .every((word) => text.includes(word));
}

/** Hosts of a scope under the headings of their groups, both in natural order. */
export function rowsOf(hosts: Iterable<HostSummary>, scope: string, typed: string): ListRow[] {
  const groups = new Map<string, HostSummary[]>();
  for (const host of hosts) {
    if (inScope(host, scope) && matches(host, typed)) {
      const group = groups.get(host.groupPath);
      if (group) group.push(host);
      else groups.set(host.groupPath, [host]);
    }
  }
  const rows: ListRow[] = [];
  for (const path of [...groups.keys()].sort(byName.compare)) {
    const members = (groups.get(path) ?? []).sort((a, b) => byName.compare(a.label, b.label));
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
