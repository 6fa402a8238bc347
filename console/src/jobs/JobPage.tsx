import { Button } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, ask } from "../api/client";
import type { RunInfo } from "../api/types";
import { Ago } from "../parts/Ago";
import { span } from "../parts/time";
import { Empty, Trouble } from "../parts/Trouble";
import { readable } from "../estate/hostList";
import { Output, RunStatus } from "./Output";
import { useJob } from "./useJob";
import { countWords, isFinal, isTrouble, runWord } from "./words";

const byName = new Intl.Collator(undefined, { numeric: true });

/** Trouble first, then what is still open, then the rest. */
function inOrder(runs: Iterable<RunInfo>): RunInfo[] {
  const rank = (r: RunInfo) => (isTrouble(r.state) ? 0 : isFinal(r.state) ? 2 : 1);
  return [...runs].sort((a, b) => rank(a) - rank(b) || byName.compare(a.hostLabel, b.hostLabel));
}

function took(run: RunInfo): string {
  if (!run.startedAt || !run.endedAt) return "";
  const milliseconds = Date.parse(run.endedAt) - Date.parse(run.startedAt);
  return milliseconds < 10_000 ? `${(milliseconds / 1000).toFixed(1)} s` : span(milliseconds);
}

export function JobPage() {
  const { id = "" } = useParams();
  const live = useJob(id);
  const [chosen, setChosen] = useState<string>();
  const cancel = useMutation({
    mutationFn: () => ask(api.POST("/api/v1/jobs/{id}/cancel", { params: { path: { id } } })),
  });
  const { job } = live;
  if (!job) {
    return (
      <main className="page">
        {live.line === "broken" ? (
          <Empty title="This job can't be shown">
            {live.problem ?? "The line to the service is broken; trying again."} <Link to="/work">All jobs</Link>
          </Empty>
        ) : (
          <Empty title="Asking the service …" />
        )}
      </main>
    );
  }
  const runs = inOrder(live.runs.values());
  const shown = runs.find((r) => r.id === chosen) ?? runs[0];
  const open = runs.filter((r) => !isFinal(r.state)).length;
  return (
    <main className="page">
      <div className="page-head">
        <h1 className="mono">{job.commandText}</h1>
        {open > 0 && (
          <Button size="compact-sm" variant="default" onClick={() => cancel.mutate()} loading={cancel.isPending}>
            End it on {open} {open === 1 ? "host" : "hosts"}
          </Button>
        )}
      </div>
      <p className="muted" style={{ marginTop: 0 }}>
        on <span className="mono">{job.selection}</span>, made <Ago time={job.createdAt} /> by {job.createdBy}
        {job.cancelledBy && <>, cancelled by {job.cancelledBy}</>}
      </p>
      <p aria-live="polite">{countWords(job.runs)}</p>
      <Trouble error={cancel.error} />
      <div className="job-split">
        <div className="rows">
          {runs.map((run) => (
            <button
              type="button"
              key={run.id}
              className="row run-row"
              aria-pressed={run.id === shown?.id}
              onClick={() => setChosen(run.id)}
            >
              <span className="host-name">
                <b>{run.hostLabel}</b>
                <span>{readable(run.groupPath)}</span>
              </span>
              <span className={isTrouble(run.state) ? "trouble" : ""}>{runWord(run)}</span>
              <span className="number muted">{took(run)}</span>
            </button>
          ))}
        </div>
        {shown && (
          <section className="panel" aria-label={`Run on ${shown.hostLabel}`}>
            <header>
              <h2>
                <Link to={`/hosts/${shown.hostId}`}>{shown.hostLabel}</Link>{" "}
                <span className="muted mono">{shown.systemName}</span>
              </h2>
              <span className="muted">{readable(shown.groupPath)}</span>
            </header>
            <Output run={shown} output={live.output.get(shown.id)} />
            <RunStatus run={shown} />
          </section>
        )}
      </div>
    </main>
  );
}
