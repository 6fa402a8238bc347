import { useEffect, useState } from "react";
import { follow, type LineState } from "../api/live";
import type { JobChanges, JobInfo, RunInfo } from "../api/types";
import { RunOutput } from "./output";

export interface LiveJob {
  job: JobInfo | undefined;
  runs: ReadonlyMap<string, RunInfo>;
  output: ReadonlyMap<string, RunOutput>;
  finished: boolean;
  line: LineState;
  problem: string | undefined;
}

const nothing: LiveJob = {
  job: undefined,
  runs: new Map(),
  output: new Map(),
  finished: false,
  line: "connecting",
  problem: undefined,
};

export function take(before: LiveJob, changes: JobChanges): LiveJob {
  const runs = new Map(changes.reset ? [] : before.runs);
  for (const run of changes.runs) runs.set(run.id, run);
  const output = new Map(before.output);
  for (const piece of changes.output) {
    const text = output.get(piece.runId) ?? new RunOutput();
    text.add(piece);
    output.set(piece.runId, text);
  }
  return { ...before, job: changes.job, runs, output, finished: changes.finished };
}

/** A job with its runs and output, live until it has ended. */
export function useJob(jobId: string): LiveJob {
  const [state, setState] = useState<{ id: string; live: LiveJob }>({ id: jobId, live: nothing });
  useEffect(
    () =>
      follow<JobChanges>(
        "Job",
        [jobId],
        (changes) => setState((s) => ({ id: jobId, live: take(s.id === jobId ? s.live : nothing, changes) })),
        (line, why) =>
          setState((s) => ({ id: jobId, live: { ...(s.id === jobId ? s.live : nothing), line, problem: why } })),
      ),
    [jobId],
  );
  return state.id === jobId ? state.live : nothing;
}
