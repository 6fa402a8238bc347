import type { RunbookStep, RunInfo, ScriptInfo, StepCondition, StepState, StepStatus } from "../api/types";

/** What a library keeps, and where its pages are. */
export interface Shelf {
  word: "script" | "runbook";
  path: string;
  hasSteps: boolean;
}

export const scriptShelf: Shelf = { word: "script", path: "/work/scripts", hasSteps: false };
export const runbookShelf: Shelf = { word: "runbook", path: "/work/runbooks", hasSteps: true };

export const shelfOf = (kept: Pick<ScriptInfo, "steps">): Shelf => (kept.steps != null ? runbookShelf : scriptShelf);

/** A condition as the document of a runbook writes it. */
export function conditionWords({ kind, of, exits, value }: StepCondition): string {
  switch (kind) {
    case "always":
      return "always";
    case "something-failed":
      return "something failed";
    case "left-out":
      return `“${of}” was left out`;
    case "exit":
      return `“${of}” ended with ${(exits ?? []).join(", ")}`;
    case "is":
      return value ? `${of} is ${value}` : `${of} has no value`;
    case "is-not":
      return value ? `${of} is not ${value}` : `${of} has a value`;
    default:
      return `“${of}” ${kind}`;
  }
}

const seconds = (s: number) => (s > 0 && s % 60 === 0 ? `${s / 60} min` : `${s} s`);

/** When a step runs, and how, in a sentence without its end. Before the first one nothing can have failed. */
export function whenWords(step: RunbookStep, isFirst = false): string {
  const when = step.when ?? [];
  const ofParameters = when.every((c) => c.kind === "is" || c.kind === "is-not");
  const met = [...(ofParameters && !isFirst ? ["nothing failed before"] : []), ...when.map(conditionWords)];
  const said = [
    met.length === 0 ? "at the beginning" : met.join() === "always" ? "always" : `when ${met.join(" and ")}`,
    step.tries && step.tries > 1
      ? `tried ${step.tries} times${step.pauseSeconds ? `, ${seconds(step.pauseSeconds)} apart` : ""}`
      : "",
    step.timeoutSeconds != null ? `ended after ${seconds(step.timeoutSeconds)}` : "",
    step.mayFail ? "may fail" : "",
  ];
  return said.filter(Boolean).join("; ");
}

export const stepWord = (state: StepState | undefined) => (state ? state.replace("-", " ") : "not reached");

export const isStepTrouble = (state: StepState | undefined) => state === "failed" || state === "timed-out";

/** Where a run of a runbook stands, in a few words; empty before its first step. */
export function placeOf(run: Pick<RunInfo, "steps" | "state">, steps: RunbookStep[]): string {
  const reached = run.steps ?? [];
  const telling =
    reached.find((s) => s.state === "running" || s.state === "stopped") ??
    reached.find((s) => isStepTrouble(s.state) && !steps[s.index]?.mayFail);
  if (!telling || run.state === "succeeded") return "";
  return `step ${telling.index + 1} of ${steps.length}, ${steps[telling.index]?.name ?? ""}: ${stepWord(telling.state)}`;
}

/** How many hosts have each step where. */
export interface StepCounts {
  name: string;
  succeeded: number;
  failed: number;
  leftOut: number;
  running: number;
  /** The run was cancelled, or its time was over, while they ran. */
  stopped: number;
  notReached: number;
}

export function countSteps(steps: RunbookStep[], runs: Iterable<Pick<RunInfo, "steps">>): StepCounts[] {
  const counts = steps.map(({ name }) => ({
    name,
    succeeded: 0,
    failed: 0,
    leftOut: 0,
    running: 0,
    stopped: 0,
    notReached: 0,
  }));
  for (const run of runs) {
    for (const [index, count] of counts.entries()) {
      const state = stateOf(run.steps, index);
      if (state === "succeeded") count.succeeded++;
      else if (isStepTrouble(state)) count.failed++;
      else if (state === "left-out") count.leftOut++;
      else if (state === "running") count.running++;
      else if (state === "stopped") count.stopped++;
      else count.notReached++;
    }
  }
  return counts;
}

export const statusOf = (reached: StepStatus[] | null | undefined, index: number) =>
  reached?.find((s) => s.index === index);

const stateOf = (reached: StepStatus[] | null | undefined, index: number) => statusOf(reached, index)?.state;
