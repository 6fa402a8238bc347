import { Button } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import { Trouble } from "../parts/Trouble";
import { Output, RunStatus } from "./Output";
import { useJob } from "./useJob";
import { isFinal, needsOf } from "./words";
import { neutralise } from "./output";

/** What one host answers to a job, as it comes. */
export function JobAnswer({ jobId }: { jobId: string }) {
  const live = useJob(jobId);
  const run = [...live.runs.values()][0];
  const cancel = useMutation({
    mutationFn: () => ask(api.POST("/api/v1/jobs/{id}/cancel", { params: { path: { id: jobId } } })),
  });
  if (!live.job || !run) return <p className="muted">Sending …</p>;
  return (
    <div style={{ marginTop: 12 }}>
      <p className="mono" style={{ margin: "0 0 6px" }}>
        {neutralise(live.job.command.action ? live.job.commandText : `$ ${live.job.commandText}`)}
      </p>
      <Output run={run} output={live.output.get(run.id)} needs={needsOf(live.job)} />
      <RunStatus run={run} needs={needsOf(live.job)} />
      <Trouble error={cancel.error} />
      <p style={{ display: "flex", gap: 12, alignItems: "center", margin: "8px 0 0" }}>
        {!isFinal(run.state) && (
          <Button size="compact-sm" variant="default" onClick={() => cancel.mutate()} loading={cancel.isPending}>
            End it on {run.hostLabel}
          </Button>
        )}
        <Link to={`/work/${jobId}`}>Open the job</Link>
      </p>
    </div>
  );
}
