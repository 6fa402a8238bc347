import { Button, TextInput } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { useMay } from "../access/useMay";
import { WhyNot } from "../access/WhyNot";
import { usePolicy } from "../access/usePolicy";
import { useSecrets } from "../access/useVault";
import { api, ask, ServiceProblem } from "../api/client";
import type { HostSummary } from "../api/types";
import { customerOf } from "../estate/emblem";
import { quoted } from "../estate/hostList";
import { Trouble } from "../parts/Trouble";
import { KeyAsked } from "../sessions/KeyAsked";
import { useHostDoor } from "../sessions/useHostDoor";
import { Output, RunStatus } from "./Output";
import { useJob } from "./useJob";
import { isFinal } from "./words";

/** A selection that names exactly this host: its system name and its group. */
export function selectionOf(host: HostSummary): string {
  return `${quoted(host.label)} and in ${quoted(host.groupPath)}`;
}

export function CommandPanel({ host, autoFocus = false }: { host: HostSummary; autoFocus?: boolean }) {
  const [line, setLine] = useState("");
  const may = useMay(host.groupPath);
  const [door, setDoor] = useHostDoor();
  const asksKey = usePolicy({ host: host.id }).data?.side?.inForce.keyFor?.includes("run") ?? false;
  const mayUse = asksKey && may("use-secrets");
  const fromVault = useSecrets({ host: host.id }, mayUse).secrets.some((s) => s.kind === "access-key");
  const start = useMutation({
    mutationFn: async (typed: string) => {
      const command = { line: typed };
      return ask(
        api.POST("/api/v1/jobs", {
          body: {
            selection: selectionOf(host),
            command,
            expiresInSeconds: null,
            seals: door ? [await door.seal(command)] : null,
            usesVault: !door && fromVault,
          },
          headers: { "Idempotency-Key": crypto.randomUUID() },
        }),
      );
    },
    // The session may have ended by itself meanwhile: the key is asked for again.
    onError: (e) => {
      if (door && e instanceof ServiceProblem && e.word === "conflict") setDoor(undefined);
    },
  });
  return (
    <section className="panel" aria-labelledby="command-title">
      <header>
        <h2 id="command-title">Command</h2>
        <span className="muted">runs as the agent's user</span>
      </header>
      {!may("run") ? (
        <WhyNot permission="run" at={{ host: host.id }} />
      ) : (
        <>
          {asksKey && <KeyAsked host={host} door={door} onDoor={setDoor} fromVault={fromVault} />}
          <form
            onSubmit={(e) => {
              e.preventDefault();
              if (line.trim()) start.mutate(line);
            }}
          >
            <TextInput
              label={`Command line for ${host.label}`}
              classNames={{ input: "mono" }}
              autoFocus={autoFocus}
              placeholder="uptime"
              value={line}
              onChange={(e) => setLine(e.currentTarget.value)}
              spellCheck={false}
              autoCapitalize="off"
              autoComplete="off"
            />
            <Button
              type="submit"
              mt={8}
              mb={10}
              loading={start.isPending}
              disabled={!line.trim()}
              title={line.trim() ? undefined : "Write a command first"}
            >
              Run on {host.label} of {customerOf(host.groupPath)}
            </Button>
          </form>
        </>
      )}
      {may("run") && host.presence.state !== "linked" && (
        <p className="muted">{host.label} is away; a command waits for it, for a day.</p>
      )}
      <Trouble error={start.error} />
      {start.data && <Answer key={start.data.id} jobId={start.data.id} />}
    </section>
  );
}

function Answer({ jobId }: { jobId: string }) {
  const live = useJob(jobId);
  const run = [...live.runs.values()][0];
  const cancel = useMutation({
    mutationFn: () => ask(api.POST("/api/v1/jobs/{id}/cancel", { params: { path: { id: jobId } } })),
  });
  if (!live.job || !run) return <p className="muted">Sending …</p>;
  return (
    <div>
      <p className="mono" style={{ margin: "0 0 6px" }}>
        $ {live.job.commandText}
      </p>
      <Output run={run} output={live.output.get(run.id)} />
      <RunStatus run={run} />
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
