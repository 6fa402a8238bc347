import type { JobInfo, RunCounts, RunInfo, RunState } from "../api/types";
import { bytes } from "../parts/time";

export const finalStates: ReadonlySet<RunState> = new Set<RunState>([
  "succeeded",
  "failed",
  "timed-out",
  "refused",
  "cancelled",
  "expired",
  "interrupted",
]);

export const isFinal = (state: RunState) => finalStates.has(state);

export const isTrouble = (state: RunState) => isFinal(state) && state !== "succeeded" && state !== "cancelled";

/** Whether it printed something that can be read. */
export const hasOutput = (run: RunInfo) => run.stdoutBytes + run.stderrBytes > 0 && !run.outputGone;

/** Of output that is past its term; behind what it was. */
export const notKept = "not kept any longer";

export function runWord(run: Pick<RunInfo, "state" | "exitStatus">): string {
  if (run.state === "failed" && run.exitStatus != null) return `failed (${run.exitStatus})`;
  return run.state.replace("-", " ");
}

/** How many runs are in each state that has any: trouble first. */
export function countsOf(counts: RunCounts): { state: RunState; count: number }[] {
  const all: { state: RunState; count: number }[] = [
    { state: "failed", count: counts.failed },
    { state: "timed-out", count: counts.timedOut },
    { state: "refused", count: counts.refused },
    { state: "interrupted", count: counts.interrupted },
    { state: "expired", count: counts.expired },
    { state: "cancelled", count: counts.cancelled },
    { state: "succeeded", count: counts.succeeded },
    { state: "running", count: counts.running },
    { state: "sent", count: counts.sent },
    { state: "waiting", count: counts.waiting },
  ];
  return all.filter((c) => c.count > 0);
}

/** "2 failed, 58 succeeded": trouble first. */
export function countWords(counts: RunCounts): string {
  return countsOf(counts)
    .map((c) => `${c.count} ${c.state.replace("-", " ")}`)
    .join(", ");
}

/** The permission that reading a job's output takes, and ending it. */
export type JobNeeds = "run" | "power" | "write-files";

/** What is done with a computer as a whole takes another permission than to run commands there. */
export const needsOf = ({ command: { action } }: Pick<JobInfo, "command">): JobNeeds =>
  action?.power || action?.wake ? "power" : action?.deliver ? "write-files" : "run";

/** Exit status of a host on which files are in the way, and that waits to be told what becomes of them. */
export const isAsking = (run: Pick<RunInfo, "state" | "exitStatus">) => run.state === "failed" && run.exitStatus === 3;

/** How far a host is that fetches what it is to put somewhere; empty where nothing is fetched now. */
export function fetchWords(
  run: Pick<RunInfo, "fetchedBytes" | "state" | "exitStatus">,
  all: number | undefined,
): string {
  if (all === undefined) return "";
  if (isAsking(run)) return "files are in the way";
  if (run.fetchedBytes == null || isFinal(run.state)) return "";
  const fetched = Math.min(run.fetchedBytes, all);
  return `has fetched ${bytes(fetched)} of ${bytes(all)}`;
}
