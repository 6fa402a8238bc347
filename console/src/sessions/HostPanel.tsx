import { Button } from "@mantine/core";
import { useState } from "react";
import { WhyNot } from "../access/WhyNot";
import type { HostSummary } from "../api/types";
import { KeyAsked } from "./KeyAsked";
import { type Proof, useProof } from "./useProof";

/** A panel over a line to a host: opened when somebody asks for it, for as long as it is shown. */
export function HostPanel({
  host,
  title,
  id,
  permission,
  ask,
  act,
  children,
}: {
  host: HostSummary;
  title: string;
  id: string;
  permission: "run" | "read-files";
  /** What the button says. */
  ask: string;
  /** What the host does once its key is proven, where that is not to run something. */
  act?: string;
  children: (proof: Proof) => React.ReactNode;
}) {
  const [looks, setLooks] = useState(false);
  const { may, asksKey, door, setDoor, fromVault, proof, ready } = useProof(host, permission);
  const linked = host.presence.state === "linked";
  return (
    <section className="panel look-panel" aria-labelledby={id}>
      <header>
        <h2 id={id}>{title}</h2>
        {looks && (
          <Button size="compact-sm" variant="subtle" color="gray" onClick={() => setLooks(false)}>
            Look no more
          </Button>
        )}
      </header>
      {!may(permission) ? (
        <WhyNot permission={permission} at={{ host: host.id }} />
      ) : (
        <>
          {/* Asked for once somebody wants to look: the bench has other panels that ask for the same key. */}
          {looks && asksKey && (
            <KeyAsked host={host} door={door} onDoor={setDoor} fromVault={fromVault} {...(act ? { act } : {})} />
          )}
          {looks ? (
            ready && children(proof)
          ) : (
            <Button
              variant="default"
              disabled={!linked}
              title={linked ? undefined : `${host.label} is away`}
              onClick={() => setLooks(true)}
            >
              {ask}
            </Button>
          )}
          {!looks && !linked && <p className="muted">{host.label} is away; this takes a host that is linked.</p>}
        </>
      )}
    </section>
  );
}
