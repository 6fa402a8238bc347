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

function useLive(stream: "Job" | "JobBoard" | "Run", id: string | undefined): LiveJob {
  const [state, setState] = useState<{ id: string; live: LiveJob }>({ id: id ?? "", live: nothing });
  useEffect(() => {
    if (!id) return;
    return follow<JobChanges>(
      stream,
      [id],
      (changes) => setState((s) => ({ id, live: take(s.id === id ? s.live : nothing, changes) })),
      (line, why) => setState((s) => ({ id, live: { ...(s.id === id ? s.live : nothing), line, problem: why } })),
    );
  }, [stream, id]);
  return state.id === id ? state.live : nothing;
}

/** A job with its runs and output, live until it has ended. */
export const useJob = (jobId: string) => useLive("Job", jobId);

/** How a job stands on each host, without output: it may be ten thousand. */
export const useBoard = (jobId: string) => useLive("JobBoard", jobId);

/** One run with its output. */
export const useRun = (runId: string | undefined) => useLive("Run", runId);
