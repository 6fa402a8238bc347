import { Button } from "@mantine/core";
import { useState } from "react";
import { WhyNot } from "../access/WhyNot";
import type { HostSummary } from "../api/types";
import { KeyAsked } from "../sessions/KeyAsked";
import { useProof } from "../sessions/useProof";
import { FileBrowser } from "./FileBrowser";

/** The files of a host, looked at for as long as the panel is open. */
export function FilesPanel({ host }: { host: HostSummary }) {
  const [looks, setLooks] = useState(false);
  const { may, asksKey, door, setDoor, fromVault, proof, ready } = useProof(host, "read-files");
  const linked = host.presence.state === "linked";
  return (
    <section className="panel look-panel" aria-labelledby="files-title">
      <header>
        <h2 id="files-title">Files</h2>
        {looks && (
          <Button size="compact-sm" variant="subtle" color="gray" onClick={() => setLooks(false)}>
            Look no more
          </Button>
        )}
      </header>
      {!may("read-files") ? (
        <WhyNot permission="read-files" at={{ host: host.id }} />
      ) : (
        <>
          {looks && asksKey && (
            <KeyAsked host={host} door={door} onDoor={setDoor} fromVault={fromVault} act="shows its files" />
          )}
          {looks ? (
            ready && <FileBrowser host={host} proof={proof} />
          ) : (
            <Button
              variant="default"
              disabled={!linked}
              title={linked ? undefined : `${host.label} is away`}
              onClick={() => setLooks(true)}
            >
              Look at the files of {host.label}
            </Button>
          )}
          {!looks && !linked && <p className="muted">{host.label} is away; this takes a host that is linked.</p>}
        </>
      )}
    </section>
  );
}
