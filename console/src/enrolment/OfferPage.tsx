import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { api, ask } from "../api/client";
import type { InstallerOffer } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { readable } from "../estate/hostList";
import { CopyLine } from "../parts/CopyLine";
import { bytes, exact } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { actWords } from "../access/policyWords";

/** For the person at the computer, who knows nothing of us: who asks, what is installed, what it allows, how. */
export function OfferPage() {
  const { secret = "" } = useParams();
  const found = useQuery({
    queryKey: ["offer", secret],
    queryFn: () => ask(api.GET("/api/v1/offers/{secret}", { params: { path: { secret } } })),
    retry: false,
  });
  const offer = found.data as InstallerOffer | undefined;
  if (found.isPending) return null;
  return (
    <main className="page offer">
      {offer ? <Offer offer={offer} secret={secret} /> : <Unknown error={found.error} />}
    </main>
  );
}

function Unknown({ error }: { error: unknown }) {
  return (
    <>
      <h1>This link leads nowhere</h1>
      <Trouble error={error} />
    </>
  );
}

function Offer({ offer, secret }: { offer: InstallerOffer; secret: string }) {
  return (
    <>
      <h1 className="whose">
        <Emblem customer={offer.customer} size={26} /> Let this computer be looked after
      </h1>
      <p>
        <b>{offer.askedBy}</b> looks after the computers of <b>{offer.customer}</b> and asks you to install a small
        program, the Umbrek agent. This computer will then stand under <b>{readable(offer.groupPath)}</b>.
        {offer.note && <> They wrote: “{offer.note}”</>}
      </p>
      {offer.refusal ? (
        <p className="trouble" role="alert">
          {offer.refusal}
        </p>
      ) : (
        <>
          <h2>What it allows</h2>
          {offer.policy.allowed.length === 0 ? (
            <p>Only to see whether the computer is on and well: its name, disks, memory and programs’ load.</p>
          ) : (
            <>
              <p>From afar, at any time, also when nobody sits here, they can:</p>
              <ul>
                <li>see whether the computer is on and well</li>
                {offer.policy.allowed.map((act) => (
                  <li key={act}>{actWords(act)}</li>
                ))}
              </ul>
              <p>
                {offer.policy.consent === "always"
                  ? "Each time somebody here is asked first and can say no."
                  : offer.policy.consent === "when-somebody-is-logged-in"
                    ? "Whoever is logged in is asked first and can say no."
                    : offer.policy.consent === "unless-refused"
                      ? "Whoever is logged in is asked first and can say no within two minutes; without an answer it begins."
                      : "You are not asked each time. Install it only if you trust them with that."}
              </p>
            </>
          )}
          <p>
            It talks only to <span className="mono">{window.location.host}</span>, and can be removed at any time with{" "}
            <span className="mono">sudo umbrek-agent uninstall</span>.
            {offer.approvalNeeded && " After installing, somebody there has to let the computer in; you need not wait."}
            {offer.accessKey === "ask-at-install" && " While installing you choose an access key; keep it."}
          </p>
          <h2>Install it</h2>
          {offer.agentVersion ? (
            <>
              <p>On Linux with 64-bit x86, one of these two:</p>
              <div className="stack">
                <CopyLine label="Copy this line into a terminal" text={offer.command} />
                <div>
                  <Button component="a" variant="filled" size="md" href={`/get/${secret}/package`} download>
                    Download for Debian and Ubuntu ({bytes(offer.agentBytes)})
                  </Button>
                  <p className="muted" style={{ margin: "6px 0 0" }}>
                    Open the file, or: <span className="mono">sudo dpkg -i umbrek-agent_*.deb</span>
                  </p>
                </div>
              </div>
              <p className="muted">
                Version {offer.agentVersion}
                {offer.expiresAt && <>, offered until {exact(offer.expiresAt)}</>}. SHA-256 of the program:{" "}
                <span className="mono wrap">{offer.agentSha256}</span>
              </p>
            </>
          ) : (
            <p className="trouble">This service has no agent to give just now. Tell whoever sent you here.</p>
          )}
        </>
      )}
    </>
  );
}
