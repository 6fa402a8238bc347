import { Button, SegmentedControl, Select } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { useMay, useMe } from "../access/useMay";
import { api, ask } from "../api/client";
import type { RunbookStep, RunInfo, RunState } from "../api/types";
import { readable } from "../estate/hostList";
import { useGroups } from "../estate/useGroups";
import { Ago } from "../parts/Ago";
import { Empty, Trouble } from "../parts/Trouble";
import { AgainButton } from "./AgainButton";
import { AnswersView } from "./AnswersView";
import { usualMask } from "./answers";
import { Board } from "./Board";
import { Comparison } from "./Comparison";
import { howWords } from "./how";
import { Output, RunStatus } from "./Output";
import { neutralise } from "./output";
import { RunList } from "./RunList";
import { runbookShelf, scriptShelf } from "./steps";
import { RunSteps, StepBoard, StepsView } from "./StepsView";
import { SearchView } from "./SearchView";
import { useBoard, useRun } from "./useJob";
import { useView, type View } from "./useView";
import { Fetching } from "./Fetching";
import { InTheWay } from "./InTheWay";
import { hasOutput, isAsking, isFinal, isTrouble, type JobNeeds, needsOf } from "./words";

const byName = new Intl.Collator(undefined, { numeric: true });

/** Trouble first, then what is still open, then the rest. */
export function inOrder(runs: Iterable<RunInfo>): RunInfo[] {
  const rank = (r: RunInfo) => (isTrouble(r.state) ? 0 : isFinal(r.state) ? 2 : 1);
  return [...runs].sort((a, b) => rank(a) - rank(b) || byName.compare(a.hostLabel, b.hostLabel));
}

export function JobPage() {
  const { id = "" } = useParams();
  const live = useBoard(id);
  const anywhere = useMe()?.anywhere;
  const at = useView();
  const [state, setState] = useState<RunState>();
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
  const mayRun = anywhere?.includes(needsOf(job)) ?? false;
  const runs = inOrder(live.runs.values());
  const asking = job.command.action?.deliver ? runs.filter(isAsking) : [];
  const open = runs.filter((r) => !isFinal(r.state)).length;
  const trouble = runs.filter((r) => isTrouble(r.state)).length;
  const one = runs.length === 1;
  const view = at.view ?? (one || !mayRun ? "hosts" : "answers");
  const how = howWords(job.command, job.pace);
  const steps = job.command.steps;
  return (
    <main className="page">
      <div className="page-head">
        <h1 className={job.script || job.command.action ? undefined : "mono"}>{neutralise(job.commandText)}</h1>
        {mayRun && (
          <div className="acts">
            {open > 0 && (
              <Button size="compact-sm" variant="default" onClick={() => cancel.mutate()} loading={cancel.isPending}>
                End it on {open} {open === 1 ? "host" : "hosts"}
              </Button>
            )}
            {trouble > asking.length && (
              <AgainButton
                job={job}
                runs={null}
                refused={job.runs.refused > 0}
                label={`Run again where it failed, on ${trouble} ${trouble === 1 ? "host" : "hosts"}`}
              />
            )}
            {!job.script && !job.command.action && !steps && (
              <Button size="compact-sm" variant="default" component={Link} to={`/work/scripts/new?job=${id}`}>
                Save as script
              </Button>
            )}
            <Button
              size="compact-sm"
              variant="default"
              component="a"
              href={`/api/v1/jobs/${id}/output?as=zip`}
              download
            >
              All output, ZIP
            </Button>
            <Button
              size="compact-sm"
              variant="default"
              component="a"
              href={`/api/v1/jobs/${id}/output?as=ndjson`}
              download
            >
              NDJSON
            </Button>
          </div>
        )}
      </div>
      <p className="muted" style={{ marginTop: 0 }}>
        on <span className="mono">{job.selection}</span>
        {job.againOf && (
          <>
            , of these where <Link to={`/work/${job.againOf}`}>an earlier job</Link> is to be done again
          </>
        )}
        , made <Ago time={job.createdAt} /> by {job.createdBy}
        {job.cancelledBy && <>, cancelled by {job.cancelledBy}</>}
        {how && <>; {how}</>}
        {job.script && mayRun && (
          <>
            .{" "}
            <Link to={`${(steps ? runbookShelf : scriptShelf).path}/${job.script.id}?version=${job.script.number}`}>
              Its {steps ? "runbook" : "script"}
            </Link>
          </>
        )}
      </p>
      {job.command.script && (
        <details className="script">
          <summary>The script</summary>
          <pre className="output" tabIndex={0}>
            {neutralise(job.command.script)}
          </pre>
        </details>
      )}
      {steps && mayRun && (
        <details className="script">
          <summary>The {steps.length === 1 ? "step" : `${steps.length} steps`}</summary>
          <StepsView steps={steps} />
        </details>
      )}
      <Board
        counts={job.runs}
        chosen={state}
        onChoose={(next) => {
          setState(next);
          if (next) at.show("hosts");
        }}
      />
      {steps && !one && <StepBoard steps={steps} runs={runs} />}
      {job.command.action?.deliver && open > 0 && <Fetching bytes={job.command.action.deliver.bytes} runs={runs} />}
      <Trouble error={cancel.error} />
      {mayRun && asking.length > 0 && <InTheWay job={job} runs={asking} />}
      {!one && mayRun && (
        <SegmentedControl
          aria-label="View"
          className="views"
          value={view}
          onChange={(next) => at.show(next as View)}
          data={[
            { value: "answers", label: "Answers" },
            { value: "hosts", label: "Host by host" },
            { value: "search", label: "Search" },
          ]}
        />
      )}
      {view === "answers" ? (
        <AnswersView job={job} runs={live.runs} />
      ) : view === "search" ? (
        <SearchView jobId={job.id} />
      ) : (
        <HostByHost
          needs={needsOf(job)}
          steps={steps ?? undefined}
          fetches={job.command.action?.deliver?.bytes}
          runs={state ? runs.filter((r) => r.state === state) : runs}
          all={runs}
        />
      )}
    </main>
  );
}

function HostByHost({
  needs,
  steps,
  fetches,
  runs,
  all,
}: {
  needs: JobNeeds;
  steps: RunbookStep[] | undefined;
  fetches: number | undefined;
  runs: RunInfo[];
  all: RunInfo[];
}) {
  const at = useView();
  const shown = all.find((r) => r.id === at.run) ?? runs[0] ?? all[0];
  const [against, setAgainst] = useState<string | null>(null);
  const { known } = useGroups();
  const may = useMay(shown?.groupPath);
  // A question that is refused stands in the audit log: it is asked by those who may, once that is known.
  const live = useRun(known && may(needs) ? shown?.id : undefined);
  if (!shown) return <Empty title="No host here that you may see" />;
  const run = live.runs.get(shown.id) ?? shown;
  const others = all.filter((r) => r.id !== shown.id && hasOutput(r));
  const other = others.find((r) => r.id === against);
  return (
    <div className="job-split">
      {runs.length > 0 ? (
        <RunList
          runs={runs}
          fetches={fetches}
          steps={steps}
          chosen={shown.id}
          onChoose={(id) => at.show("hosts", id)}
        />
      ) : (
        <Empty title="None in this state any more" />
      )}
      <section className="panel" aria-label={`Run on ${shown.hostLabel}`}>
        <header>
          <h2>
            <Link to={`/hosts/${shown.hostId}`}>{shown.hostLabel}</Link>{" "}
            <span className="muted mono">{shown.systemName}</span>
          </h2>
          <span className="muted">{readable(shown.groupPath)}</span>
        </header>
        {steps && <RunSteps steps={steps} reached={run.steps} />}
        {other ? (
          <Comparison first={shown.id} second={other.id} mask={usualMask} />
        ) : (
          <Output run={run} output={live.output.get(shown.id)} needs={needs} />
        )}
        <RunStatus run={run} needs={needs} />
        {others.length > 0 && hasOutput(run) && (
          <Select
            mt={10}
            label="Compare its output with"
            placeholder="another host"
            clearable
            searchable
            limit={100}
            value={other?.id ?? null}
            onChange={setAgainst}
            data={others.map((r) => ({ value: r.id, label: `${r.hostLabel} of ${readable(r.groupPath)}` }))}
          />
        )}
      </section>
    </div>
  );
}
