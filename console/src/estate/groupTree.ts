import type { GroupInfo } from "../api/types";

export interface TreeNode {
  group: GroupInfo;
  depth: number;
  children: TreeNode[];
  /** Hosts in it and below. */
  hosts: number;
}

const byName = new Intl.Collator(undefined, { numeric: true, sensitivity: "base" });

/** The groups as a tree, customers at the top, each level by name. */
export function treeOf(groups: GroupInfo[]): TreeNode[] {
  const under = new Map<string | null, GroupInfo[]>();
  for (const g of groups) {
    const key = g.parentId ?? null;
    const list = under.get(key);
    if (list) list.push(g);
    else under.set(key, [g]);
  }
  const grow = (parent: string | null, depth: number): TreeNode[] =>
    (under.get(parent) ?? [])
      .sort((a, b) => byName.compare(a.name, b.name))
      .map((group) => {
        const children = grow(group.id, depth + 1);
        return { group, depth, children, hosts: Number(group.hosts) + children.reduce((n, c) => n + c.hosts, 0) };
      });
  return grow(null, 0);
}

/** The tree as lines, what is closed left out. */
export function linesOf(tree: TreeNode[], closed: ReadonlySet<string>): TreeNode[] {
  return tree.flatMap((n) => [n, ...(closed.has(n.group.id) ? [] : linesOf(n.children, closed))]);
}

/** Why a group can't go below another; undefined when it can. */
export function whyNot(moving: GroupInfo, below: GroupInfo): string | undefined {
  if (!moving.parentId) return `${moving.name} is a customer and stays at the top`;
  if (moving.id === below.id || below.path.startsWith(`${moving.path}/`)) return `${moving.name} can’t go below itself`;
  if (moving.parentId === below.id) return `${moving.name} stands there already`;
  return undefined;
}
