import type { RunCounts, RunInfo, RunState } from "../api/types";

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

export function runWord(run: Pick<RunInfo, "state" | "exitStatus">): string {
  if (run.state === "failed" && run.exitStatus != null) return `failed (${run.exitStatus})`;
  return run.state.replace("-", " ");
}

/** "2 failed, 58 succeeded": trouble first. */
export function countWords(counts: RunCounts): string {
  const named: [number, string][] = [
    [counts.failed, "failed"],
    [counts.timedOut, "timed out"],
    [counts.refused, "refused"],
    [counts.interrupted, "interrupted"],
    [counts.expired, "expired"],
    [counts.cancelled, "cancelled"],
    [counts.succeeded, "succeeded"],
    [counts.running, "running"],
    [counts.sent, "sent"],
    [counts.waiting, "waiting"],
  ];
  return named
    .filter(([count]) => count > 0)
    .map(([count, word]) => `${count} ${word}`)
    .join(", ");
}
