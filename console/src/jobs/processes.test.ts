import { describe, expect, it } from "vitest";
import type { HostProcess, ProcessChanges } from "../api/types";
import { apply, arrange, markOf, used, type Reading } from "./processes";

const make = (pid: number, parent: number, more: Partial<HostProcess> = {}): HostProcess => ({
  pid,
  parent,
  start: pid * 10,
  startedAt: "2026-03-29T01:00:00Z",
  user: "root",
  name: `p${pid}`,
  commandLine: `/usr/bin/p${pid}`,
  state: "sleeping",
  niceness: 0,
  threads: 1,
  memoryBytes: 0,
  processorSeconds: 0,
  ...more,
});

const changes = (changed: HostProcess[], gone: number[] = [], reset = false): ProcessChanges => ({
  at: "2026-03-29T01:00:00Z",
  boot: "b",
  processors: 2,
  memoryBytes: 1,
  reset,
  changed,
  gone,
});

const numbers = (reading: Reading, ...how: [string, Parameters<typeof arrange>[2], boolean, boolean]) =>
  arrange(reading, ...how).map((s) => [s.process.pid, s.depth]);

describe("a reading", () => {
  it("follows the changes", () => {
    let reading = apply(undefined, changes([make(1, 0), make(7, 1)], [], true));
    reading = apply(reading, changes([make(7, 1, { niceness: 5 }), make(9, 7)], [1]));
    expect([...reading.processes.keys()]).toEqual([7, 9]);
    expect(reading.processes.get(7)?.niceness).toBe(5);
    expect([...apply(reading, changes([make(3, 0)], [], true)).processes.keys()]).toEqual([3]);
  });

  const reading = apply(
    undefined,
    changes(
      [
        make(1, 0),
        make(4, 1, { processorPercent: 9, memoryBytes: 10, user: "kiosk" }),
        make(5, 1, { processorPercent: 20 }),
        make(6, 4, { memoryBytes: 30 }),
        make(8, 99),
      ],
      [],
      true,
    ),
  );

  it("is put in order, and turned", () => {
    expect(numbers(reading, "", "processor", false, false).map(([pid]) => pid)).toEqual([5, 4, 1, 6, 8]);
    expect(numbers(reading, "", "memory", false, false).map(([pid]) => pid)).toEqual([6, 4, 1, 5, 8]);
    expect(numbers(reading, "", "pid", true, false).map(([pid]) => pid)).toEqual([8, 6, 5, 4, 1]);
  });

  it("is a tree in which who has no parent here stands at the top", () => {
    expect(numbers(reading, "", "processor", false, true)).toEqual([
      [1, 0],
      [5, 1],
      [4, 1],
      [6, 2],
      [8, 0],
    ]);
  });

  it("is searched by words, users and whole numbers", () => {
    expect(numbers(reading, "KIOSK p4", "pid", false, false)).toEqual([[4, 0]]);
    expect(numbers(reading, "8", "pid", false, false).map(([pid]) => pid)).toEqual([8]);
    expect(numbers(reading, "kiosk 5", "pid", false, false)).toEqual([]);
  });
});

it("names a process for good", () => {
  expect(markOf(make(7, 1))).toEqual({ pid: 7, start: 70, name: "p7" });
});

it("writes processor time", () => {
  expect(used(0.4)).toBe("0:00");
  expect(used(125)).toBe("2:05");
  expect(used(3725)).toBe("1:02:05");
});
