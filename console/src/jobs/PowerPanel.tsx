import { Button } from "@mantine/core";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { WhyNot } from "../access/WhyNot";
import { api, ask } from "../api/client";
import type { HostSummary, PowerAct, WakeHost, WakeInfo } from "../api/types";
import { customerOf } from "../estate/emblem";
import { selectionOf } from "../estate/hostList";
import { span } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { KeyAsked } from "../sessions/KeyAsked";
import { useProof } from "../sessions/useProof";
import { JobAnswer } from "./JobAnswer";
import { powerActs, powerWish, sentence, takesGrace } from "./power";
import { nothingSaidOfPower, PowerFields } from "./PowerFields";
import { useHostAct } from "./useHostAct";

/** A host is restarted, switched off and woken; people there are logged out, screens locked. */
export function PowerPanel({ host }: { host: HostSummary }) {
  const { may, policy, asksKey, door, setDoor, fromVault, proof, ready } = useProof(host, "power");
  const [act, setAct] = useState<PowerAct>();
  const [said, setSaid] = useState(nothingSaidOfPower);
  const [sent, setSent] = useState<{ id: string; act?: PowerAct }>();
  const make = useHostAct(host, proof, (job, { power }) => {
    setSent({ id: job.id, act: power?.act });
    setAct(undefined);
  });
  const where = `${host.label} of ${customerOf(host.groupPath)}`;
  const linked = host.presence.state === "linked";
  const chosen = powerActs.find((a) => a.act === act);
  const putOff = policy?.side?.inForce.putOffMinutes ?? 0;
  const wish = act && powerWish(act, said.minutes, said.message, said.person);
  return (
    <section className="panel" aria-labelledby="power-title">
      <header>
        <h2 id="power-title">Power</h2>
      </header>
      {!may("power") ? (
        <WhyNot permission="power" at={{ host: host.id }} />
      ) : linked ? (
        <>
          <div className="acts process-acts" role="group" aria-label={`What is done with ${where}`}>
            {powerActs.map((a) => (
              <Button
                key={a.act}
                size="compact-sm"
                variant="default"
                aria-expanded={act === a.act}
                onClick={() => setAct(act === a.act ? undefined : a.act)}
              >
                {a.label} …
              </Button>
            ))}
          </div>
          {chosen && wish && (
            <form
              className="stack"
              style={{ marginTop: 12 }}
              onSubmit={(e) => {
                e.preventDefault();
                if (ready) make.mutate({ power: wish });
              }}
            >
              {asksKey && (
                <KeyAsked host={host} door={door} onDoor={setDoor} fromVault={fromVault} act="does any of this" />
              )}
              <PowerFields act={chosen.act} said={said} onSaid={setSaid} there={host.users} />
              <p className="muted" style={{ margin: 0 }}>
                {chosen.lost}
                {takesGrace(chosen.act) &&
                  host.users.length > 0 &&
                  (putOff > 0
                    ? ` ${host.users.join(", ")} may put it off by ${span(putOff * 60_000)} in all.`
                    : ` ${host.users.join(", ")} can’t put it off; the host policy says so.`)}
              </p>
              <div>
                <Button
                  type="submit"
                  loading={make.isPending}
                  disabled={!ready}
                  title={ready ? undefined : `${host.label} asks for its access key first`}
                >
                  {sentence(wish, where)}
                </Button>
              </div>
            </form>
          )}
        </>
      ) : (
        <Wake host={host} where={where} restarts={sent?.act === "restart"} onSent={(id) => setSent({ id })} />
      )}
      <Trouble error={make.error} />
      {sent && <JobAnswer key={sent.id} jobId={sent.id} />}
    </section>
  );
}

/** A host that is away may sleep: others of its network can send the packet that wakes it. */
function Wake({
  host,
  where,
  restarts,
  onSent,
}: {
  host: HostSummary;
  where: string;
  /** It was told to restart from here: to wake it is for when it does not come back. */
  restarts: boolean;
  onSent: (jobId: string) => void;
}) {
  const ways = useQuery({
    queryKey: ["wake", host.id],
    queryFn: async () =>
      (await ask(api.GET("/api/v1/hosts/{id}/wake", { params: { path: { id: host.id } } }))) as WakeHost,
    refetchInterval: 15_000,
  });
  const wake = useMutation({
    mutationFn: async () =>
      (await ask(
        api.POST("/api/v1/wake", {
          body: { selection: selectionOf(host) },
          headers: { "Idempotency-Key": crypto.randomUUID() },
        }),
      )) as WakeInfo,
    onSuccess: (info) => info.job && onSent(info.job.id),
  });
  const senders = [...new Set(ways.data?.neighbours.map((n) => n.label))];
  const why = ways.data?.problem;
  return (
    <>
      <p className="muted" style={{ marginTop: 0 }}>
        {why
          ? `${host.label} ${why}`
          : restarts
            ? `${host.label} restarts; below it says when it is back. If it stays away, ${senders.join(" or ") || "a neighbour"} can send the packet that wakes it.`
            : senders.length > 0
              ? `${host.label} is away. If it sleeps or is shut down, ${senders.join(" or ")} can send the packet that wakes it.`
              : `Looking for neighbours of ${host.label} …`}
      </p>
      <Button
        variant={restarts ? "default" : "filled"}
        loading={wake.isPending}
        disabled={!!why || senders.length === 0}
        title={why ?? undefined}
        onClick={() => wake.mutate()}
      >
        Wake {where}
      </Button>
      <Trouble error={wake.error ?? ways.error} />
      {wake.data && (
        <p className="muted" role="status">
          {`The packet is on its way. Above it says when ${host.label} is up; a network card wakes its computer only where firmware and system let it.`}
        </p>
      )}
    </>
  );
}
