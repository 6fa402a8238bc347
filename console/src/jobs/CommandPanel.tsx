import { Button, TextInput } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { WhyNot } from "../access/WhyNot";
import { api, ask, ServiceProblem } from "../api/client";
import type { HostSummary } from "../api/types";
import { customerOf } from "../estate/emblem";
import { selectionOf } from "../estate/hostList";
import { Trouble } from "../parts/Trouble";
import { KeyAsked } from "../sessions/KeyAsked";
import { useProof } from "../sessions/useProof";
import { JobAnswer } from "./JobAnswer";

export function CommandPanel({ host, autoFocus = false }: { host: HostSummary; autoFocus?: boolean }) {
  const [line, setLine] = useState("");
  const { may, asksKey, door, setDoor, fromVault, proof } = useProof(host, "run");
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
            usesVault: proof.usesVault,
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
      {may("run") && (
        <p className="muted">
          <Link to={`/work/new?on=${encodeURIComponent(selectionOf(host))}`}>
            A script, another user, variables, a time-out …
          </Link>
        </p>
      )}
      {may("run") && host.presence.state !== "linked" && (
        <p className="muted">{host.label} is away; a command waits for it, for a day.</p>
      )}
      <Trouble error={start.error} />
      {start.data && <JobAnswer key={start.data.id} jobId={start.data.id} />}
    </section>
  );
}
