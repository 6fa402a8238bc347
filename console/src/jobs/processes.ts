import type { HostProcess, ProcessChanges, ProcessMark } from "../api/types";

export interface Reading {
  at: string;
  boot: string;
  processors: number;
  memoryBytes: number;
  processes: ReadonlyMap<number, HostProcess>;
}

/** The reading behind the changes. */
export function apply(before: Reading | undefined, changes: ProcessChanges): Reading {
  const processes = new Map(changes.reset || !before ? [] : before.processes);
  for (const pid of changes.gone) processes.delete(pid);
  for (const process of changes.changed) processes.set(process.pid, process);
  return { ...changes, processes };
}

export type Column = "pid" | "user" | "processor" | "memory" | "used" | "niceness" | "started" | "name";

const byName = new Intl.Collator(undefined, { numeric: true });

const orders: Record<Column, (a: HostProcess, b: HostProcess) => number> = {
  pid: (a, b) => a.pid - b.pid,
  user: (a, b) => byName.compare(a.user, b.user),
  processor: (a, b) => (b.processorPercent ?? 0) - (a.processorPercent ?? 0),
  memory: (a, b) => b.memoryBytes - a.memoryBytes,
  used: (a, b) => b.processorSeconds - a.processorSeconds,
  niceness: (a, b) => a.niceness - b.niceness,
  started: (a, b) => b.start - a.start,
  name: (a, b) => byName.compare(a.name, b.name),
};

export interface Shown {
  process: HostProcess;
  depth: number;
}

/** Those that have all the words, in order; in a tree each stands below the one that started it. */
export function arrange(reading: Reading, words: string, column: Column, turned: boolean, tree: boolean): Shown[] {
  const sought = words.toLowerCase().split(/\s+/).filter(Boolean);
  const wanted = [...reading.processes.values()].filter((p) =>
    sought.every((w) => `${p.name} ${p.user} ${p.commandLine ?? ""}`.toLowerCase().includes(w) || String(p.pid) === w),
  );
  const order = (a: HostProcess, b: HostProcess) => (turned ? -1 : 1) * orders[column](a, b) || a.pid - b.pid;
  wanted.sort(order);
  if (!tree) return wanted.map((process) => ({ process, depth: 0 }));
  const ids = new Set(wanted.map((p) => p.pid));
  const below = new Map<number, HostProcess[]>();
  for (const p of wanted) {
    if (p.parent === p.pid || !ids.has(p.parent)) continue;
    const siblings = below.get(p.parent);
    if (siblings) siblings.push(p);
    else below.set(p.parent, [p]);
  }
  const shown: Shown[] = [];
  const next = wanted.filter((p) => p.parent === p.pid || !ids.has(p.parent)).map((process) => ({ process, depth: 0 }));
  next.reverse();
  for (let one = next.pop(); one; one = next.pop()) {
    shown.push(one);
    const depth = one.depth + 1;
    for (const process of (below.get(one.process.pid) ?? []).toReversed()) next.push({ process, depth });
  }
  return shown;
}

/** Names one process for good: its number alone may be another's a moment later. */
export const markOf = (p: HostProcess): ProcessMark => ({ pid: p.pid, start: p.start, name: p.name });

/** Processor time as minutes and seconds, with hours when there are some. */
export function used(seconds: number): string {
  const two = (n: number) => String(Math.floor(n)).padStart(2, "0");
  const minutes = Math.floor(seconds / 60);
  return minutes < 60
    ? `${minutes}:${two(seconds % 60)}`
    : `${Math.floor(minutes / 60)}:${two(minutes % 60)}:${two(seconds % 60)}`;
}
