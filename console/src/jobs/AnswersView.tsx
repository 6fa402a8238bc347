import { Button, Checkbox } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import type { FoldedAnswer, JobAnswers, JobInfo, RunInfo } from "../api/types";
import { customerOf } from "../estate/emblem";
import { bytes } from "../parts/time";
import { Empty, Trouble } from "../parts/Trouble";
import { AgainButton } from "./AgainButton";
import { commonest, masks, toggled, usualMask } from "./answers";
import { Comparison } from "./Comparison";
import { neutralise } from "./output";
import { useView } from "./useView";
import { isFinal, isTrouble, notKept, runWord } from "./words";

/** So many different answers are drawn at once. */
const STEP = 30;
const NAMED = 12;
const SHOWN_BYTES = 32_000;

/** Equal answers as one, the odd ones first. */
export function AnswersView({ job, runs }: { job: JobInfo; runs: ReadonlyMap<string, RunInfo> }) {
  const [mask, setMask] = useState(usualMask);
  const [most, setMost] = useState(STEP);
  const over = [...runs.values()].every((r) => isFinal(r.state));
  const answers = useQuery({
    queryKey: ["answers", job.id, mask, over],
    queryFn: () =>
      ask(
        api.GET("/api/v1/jobs/{id}/answers", { params: { path: { id: job.id }, query: { passOver: mask } } }),
      ) as Promise<JobAnswers>,
    placeholderData: (before) => before,
    staleTime: Infinity,
    // All outputs are read for it: while runs end by the hundred, now and then is enough.
    refetchInterval: over ? false : 3000,
  });
  const folds = answers.data?.folds ?? [];
  const gone = answers.data?.gone ?? 0;
  const usual = commonest(folds);
  return (
    <div className="stack">
      <fieldset className="plain">
        <legend className="muted">Answers that differ only in these count as equal</legend>
        <div className="ticks">
          {masks.map((m) => (
            <Checkbox
              key={m.word}
              label={m.name}
              checked={mask.split(",").includes(m.word)}
              onChange={() => setMask(toggled(mask, m.word))}
            />
          ))}
        </div>
      </fieldset>
      <Trouble error={answers.error} />
      {answers.data && folds.length === 0 && gone === 0 && (
        <Empty title="No host has answered yet">Answers are folded as the runs end.</Empty>
      )}
      {folds.slice(0, most).map((fold) => (
        <Fold key={fold.runs[0]} fold={fold} usual={usual} mask={mask} job={job} runs={runs} />
      ))}
      {folds.length > most && (
        <Button variant="default" onClick={() => setMost(most + STEP)}>
          Show {Math.min(STEP, folds.length - most)} more of {folds.length} different answers
        </Button>
      )}
      {answers.data && (answers.data.open > 0 || answers.data.hidden > 0 || gone > 0) && (
        <p className="muted">
          {answers.data.open > 0 &&
            `${answers.data.open} ${answers.data.open === 1 ? "run has" : "runs have"} not ended. `}
          {answers.data.hidden > 0 && `The output of ${answers.data.hidden} hosts is not yours to read. `}
          {gone > 0 && `What ${gone === 1 ? "1 host" : `${gone} hosts`} printed is ${notKept}.`}
        </p>
      )}
    </div>
  );
}

function Fold({
  fold,
  usual,
  mask,
  job,
  runs,
}: {
  fold: FoldedAnswer;
  usual: FoldedAnswer | undefined;
  mask: string;
  job: JobInfo;
  runs: ReadonlyMap<string, RunInfo>;
}) {
  const first = runs.get(fold.runs[0] ?? "");
  const against = usual && usual !== fold ? runs.get(usual.runs[0] ?? "") : undefined;
  const comparable = against !== undefined && fold.bytes > 0 && (usual?.bytes ?? 0) > 0;
  const at = useView();
  const [differences, setDifferences] = useState(true);
  const [all, setAll] = useState(false);
  if (!first) return null;
  const named = fold.runs
    .slice(0, all ? undefined : NAMED)
    .map((id) => runs.get(id))
    .filter((r) => r !== undefined);
  const who = fold.runs.length === 1 ? first.hostLabel : `${fold.runs.length} hosts`;
  return (
    <section className="panel fold" aria-label={`Answer of ${who}`}>
      <header>
        <h2>
          {fold.runs.length === 1 ? "1 host" : `${fold.runs.length} hosts`}{" "}
          <span className={isTrouble(fold.state) ? "trouble" : "muted"}>{runWord(fold)}</span>
        </h2>
        <span className="muted">
          {fold.bytes === 0
            ? "printed nothing"
            : `${fold.lines} ${fold.lines === 1 ? "line" : "lines"}, ${bytes(fold.bytes)}`}
          {fold.variants > 1 && `, ${fold.variants} variants to the byte`}
          {fold.cut && ", only the beginning compared"}
        </span>
      </header>
      <p className="fold-hosts">
        {named.map((run) => (
          <Link key={run.id} to={at.toRun(run.id)} title={`${run.systemName} in ${run.groupPath}`}>
            {run.hostLabel} <span className="muted">{customerOf(run.groupPath)}</span>
          </Link>
        ))}
        {fold.runs.length > named.length && (
          <Button size="compact-xs" variant="subtle" onClick={() => setAll(true)}>
            and {fold.runs.length - named.length} more
          </Button>
        )}
      </p>
      {fold.reason && <p className={isTrouble(fold.state) ? "" : "muted"}>{fold.reason}</p>}
      {fold.bytes > 0 &&
        (comparable && differences ? (
          <Comparison first={first.id} second={against.id} mask={mask} only />
        ) : (
          <Sample run={first} bytes={fold.bytes} />
        ))}
      <div className="acts">
        {comparable && (
          <Button size="compact-sm" variant="default" onClick={() => setDifferences(!differences)}>
            {differences ? `All that ${first.hostLabel} printed` : `What differs from ${against.hostLabel}`}
          </Button>
        )}
        <AgainButton job={job} runs={fold.runs} label={`Run again on ${who}`} refused={fold.state === "refused"} />
      </div>
    </section>
  );
}

/** The beginning of what one host printed, for all that printed the same. */
function Sample({ run, bytes: size }: { run: RunInfo; bytes: number }) {
  const text = useQuery({
    queryKey: ["output-head", run.id],
    queryFn: () => head(run.id),
    staleTime: Infinity,
  });
  if (text.error) return <Trouble error={text.error} />;
  return (
    <>
      <pre className="output" tabIndex={0} aria-label={`Output of ${run.hostLabel}`}>
        {text.data ?? "…"}
      </pre>
      {size > SHOWN_BYTES && (
        <p className="muted">
          Only the beginning is shown;{" "}
          <a href={`/api/v1/runs/${run.id}/output`} download>
            all {bytes(size)}
          </a>
        </p>
      )}
    </>
  );
}

/** Reads no more than is shown: an output may have gigabytes. */
async function head(runId: string): Promise<string> {
  const stream = (await ask(
    api.GET("/api/v1/runs/{id}/output", { params: { path: { id: runId } }, parseAs: "stream" }),
  )) as unknown as ReadableStream<Uint8Array>;
  const reader = stream.getReader();
  const decoder = new TextDecoder();
  let text = "";
  let read = 0;
  while (read < SHOWN_BYTES) {
    const piece = await reader.read();
    if (piece.done) break;
    read += piece.value.length;
    text += decoder.decode(piece.value, { stream: true });
  }
  await reader.cancel();
  return neutralise(text);
}
