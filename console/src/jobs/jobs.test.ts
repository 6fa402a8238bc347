import { describe, expect, it } from "vitest";
import type { JobChanges, JobInfo, OutputPiece, RunCounts, RunInfo } from "../api/types";
import { runCounts } from "../test-pages";
import { merge } from "./JobList";
import { neutralise, RunOutput, SHOWN_CHARACTERS } from "./output";
import { take, type LiveJob } from "./useJob";
import { countWords, isTrouble, needsOf, runWord } from "./words";

const base64 = (bytes: number[] | string) =>
  btoa(
    typeof bytes === "string" ? String.fromCharCode(...new TextEncoder().encode(bytes)) : String.fromCharCode(...bytes),
  );
const piece = (sequence: number, data: number[] | string, stream: "stdout" | "stderr" = "stdout"): OutputPiece => ({
  runId: "r1",
  sequence,
  stream,
  data: base64(data),
});
const job = (id: string, part: Partial<RunCounts> = {}) =>
  ({ id, commandText: "df -h", runs: runCounts(part) }) as JobInfo;
const run = (id: string, state: RunInfo["state"]) => ({ id, state, hostLabel: id }) as RunInfo;

describe("output of a run", () => {
  it("keeps the two streams apart and in order", () => {
    const output = new RunOutput();
    output.add(piece(2, "one\n"));
    output.add(piece(3, "two\n"));
    output.add(piece(4, "oops\n", "stderr"));
    expect(output.parts).toEqual([
      { stream: "stdout", text: "one\ntwo\n" },
      { stream: "stderr", text: "oops\n" },
    ]);
  });

  it("passes over what came before a broken line", () => {
    const output = new RunOutput();
    output.add(piece(2, "one\n"));
    output.add(piece(2, "one\n"));
    output.add(piece(1, "older\n"));
    expect(output.parts).toEqual([{ stream: "stdout", text: "one\n" }]);
  });

  it("puts a letter together that a piece has cut in two", () => {
    const bytes = [...new TextEncoder().encode("Käse")];
    const output = new RunOutput();
    output.add(piece(1, bytes.slice(0, 2)));
    output.add(piece(2, bytes.slice(2)));
    expect(output.parts[0]?.text).toBe("Käse");
  });

  it("shows escapes instead of obeying them", () => {
    expect(neutralise("\u001b[2J\u0007a\tb\r\n\u202e")).toBe("␛[2J␇a\tb\n␦");
  });

  it("keeps the end when there is too much", () => {
    const output = new RunOutput();
    for (let i = 0; i < 30; i++) output.add(piece(i, `${i % 10}`.repeat(10_000), i % 2 ? "stderr" : "stdout"));
    const text = output.parts.map((p) => p.text).join("");
    expect(text).toHaveLength(SHOWN_CHARACTERS);
    expect(text.endsWith("9")).toBe(true);
    expect(output.cut).toBe(true);
  });
});

describe("words for runs", () => {
  it("names trouble first", () => {
    expect(countWords(runCounts({ succeeded: 58, failed: 2, timedOut: 1 }))).toBe(
      "2 failed, 1 timed out, 58 succeeded",
    );
  });
  it("tells the exit status of a failure", () => {
    expect(runWord({ state: "failed", exitStatus: 3 })).toBe("failed (3)");
    expect(runWord({ state: "timed-out", exitStatus: null })).toBe("timed out");
  });
  it("does not call a cancelled run trouble", () => {
    expect(isTrouble("cancelled")).toBe(false);
    expect(isTrouble("interrupted")).toBe(true);
    expect(isTrouble("running")).toBe(false);
  });
});

describe("a live job", () => {
  const nothing: LiveJob = {
    job: undefined,
    runs: new Map(),
    output: new Map(),
    finished: false,
    line: "live",
    problem: undefined,
  };
  const changes = (part: Partial<JobChanges>): JobChanges => ({
    reset: false,
    job: job("j"),
    runs: [],
    output: [],
    caughtUp: false,
    finished: false,
    ...part,
  });

  it("takes changes on top of what it has", () => {
    let live = take(nothing, changes({ reset: true, runs: [run("a", "sent"), run("b", "sent")] }));
    live = take(live, changes({ runs: [run("a", "running")], output: [{ ...piece(2, "x"), runId: "a" }] }));
    expect([...live.runs.values()].map((r) => r.state)).toEqual(["running", "sent"]);
    expect(live.output.get("a")?.parts[0]?.text).toBe("x");
  });

  it("starts its runs anew on a new line but keeps output that it has shown", () => {
    let live = take(
      nothing,
      changes({ reset: true, runs: [run("a", "running")], output: [{ ...piece(2, "x"), runId: "a" }] }),
    );
    live = take(
      live,
      changes({ reset: true, runs: [run("a", "succeeded")], output: [{ ...piece(2, "x"), runId: "a" }] }),
    );
    expect([...live.runs.keys()]).toEqual(["a"]);
    expect(live.output.get("a")?.parts[0]?.text).toBe("x");
  });
});

describe("the list of jobs", () => {
  it("puts new jobs on top and changed ones in their place", () => {
    let jobs = { items: [job("old")], total: 1 };
    jobs = merge(jobs, job("new"));
    jobs = merge(jobs, job("old", { succeeded: 1 }));
    expect(jobs.items.map((j) => j.id)).toEqual(["new", "old"]);
    expect(jobs.items[1]?.runs.succeeded).toBe(1);
    expect(jobs.total).toBe(2);
  });
});

it("what is done with a computer as a whole takes the permission of its own", () => {
  const job = (command: object) => ({ command }) as never;
  expect(needsOf(job({ line: "reboot" }))).toBe("run");
  expect(needsOf(job({ action: { service: { name: "cups", act: "stop" } } }))).toBe("run");
  expect(needsOf(job({ action: { power: { act: "restart", graceSeconds: 0 } } }))).toBe("power");
  expect(needsOf(job({ action: { wake: { targets: [] } } }))).toBe("power");
});
