import { Button } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, ask } from "../api/client";
import type { InstallerDetail } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { readable } from "../estate/hostList";
import { Ago } from "../parts/Ago";
import { CopyLine } from "../parts/CopyLine";
import { exact } from "../parts/time";
import { Empty, Trouble } from "../parts/Trouble";
import { actWords, consents } from "../access/policyWords";
import { accessKeys, outcome, stateWords } from "./words";

export function InstallerPage() {
  const { id = "" } = useParams();
  const queries = useQueryClient();
  const found = useQuery({
    queryKey: ["installers", id],
    queryFn: () => ask(api.GET("/api/v1/installers/{id}", { params: { path: { id } } })),
  });
  const revoke = useMutation({
    mutationFn: () => ask(api.POST("/api/v1/installers/{id}/revoke", { params: { path: { id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["installers"] }),
  });
  const installer = found.data as InstallerDetail | undefined;
  if (!installer)
    return (
      <main className="page">
        <Trouble error={found.error} />
      </main>
    );
  const { info } = installer;
  const valid = info.state === "valid";
  return (
    <main className="page">
      <div className="page-head">
        <h1 className="whose">
          <Emblem customer={info.groupPath.split("/")[0] ?? ""} size={22} /> Installer for {readable(info.groupPath)}
        </h1>
        <span className="muted">{info.note}</span>
        <span style={{ flex: 1 }} />
        {valid ? (
          <Button
            variant="default"
            onClick={() => revoke.mutate()}
            loading={revoke.isPending}
            title={`Nobody can join ${readable(info.groupPath)} with it any more; hosts that joined stay`}
          >
            Revoke
          </Button>
        ) : (
          <b>{stateWords(info.state)}</b>
        )}
      </div>
      <Trouble error={revoke.error} />
      <div className="panels">
        <section className="panel" aria-labelledby="hand-out">
          <header>
            <h2 id="hand-out">Hand it out</h2>
          </header>
          {valid ? (
            <div className="stack">
              <CopyLine label="A link for the person at the computer" text={installer.link} />
              <CopyLine label="One line for a terminal there" text={installer.command} />
              <CopyLine label="Where the agent program is at hand already" text={installer.silentCommand} />
              <div>
                <Button component="a" variant="default" href={`/api/v1/installers/${info.id}/package`} download>
                  Save as a Debian package
                </Button>
              </div>
              <p className="muted" style={{ margin: 0 }}>
                Whoever has one of these can join a computer with it. Treat them like a key.
              </p>
            </div>
          ) : (
            <p style={{ margin: 0 }}>It lets nobody in any more: it is {stateWords(info.state)}. Make a new one.</p>
          )}
        </section>
        <section className="panel" aria-labelledby="terms">
          <header>
            <h2 id="terms">What it carries</h2>
          </header>
          <dl className="facts">
            <dt>Allowed</dt>
            <dd>{info.policy.allowed.length === 0 ? "nothing" : info.policy.allowed.map(actWords).join(", ")}</dd>
            <dt>Consent</dt>
            <dd>{consents.find((c) => c.value === info.policy.consent)?.label}</dd>
            <dt>Access key</dt>
            <dd>{accessKeys.find((k) => k.value === info.accessKey)?.label}</dd>
            <dt>Approval</dt>
            <dd>{info.approvalNeeded ? "each computer waits for a person" : "not needed"}</dd>
            <dt>Computers</dt>
            <dd>
              {info.uses} of {info.maxUses ?? "any number"}
            </dd>
            <dt>Expires</dt>
            <dd>{info.expiresAt ? exact(info.expiresAt) : "never"}</dd>
            <dt>Made by</dt>
            <dd>
              {info.createdBy}, {exact(info.createdAt)}
            </dd>
            {info.revokedAt && (
              <>
                <dt>Revoked</dt>
                <dd>{exact(info.revokedAt)}</dd>
              </>
            )}
          </dl>
        </section>
      </div>
      <section aria-labelledby="used-by" style={{ marginTop: 20 }}>
        <h2 id="used-by" style={{ marginBottom: 8 }}>
          Used by
        </h2>
        {installer.enrolments.length === 0 ? (
          <Empty title="Nobody has used it yet">Computers stand here with their address once they try.</Empty>
        ) : (
          <div className="rows">
            <div className="row used-row row-head" aria-hidden="true">
              <span>Computer</span>
              <span>Outcome</span>
              <span>When</span>
              <span>From</span>
              <span></span>
            </div>
            {installer.enrolments.map((e) => (
              <div className="row used-row" key={e.id}>
                <span className="host-name">
                  <b>{e.hostId ? <Link to={`/hosts/${e.hostId}`}>{e.label}</Link> : e.label}</b>
                  <span className="mono">{e.systemName}</span>
                </span>
                <span>{outcome(e)}</span>
                <Ago time={e.at} />
                <span className="mono">{e.address}</span>
                <span className="muted">{e.decidedBy ? `decided by ${e.decidedBy}` : e.detail}</span>
              </div>
            ))}
          </div>
        )}
      </section>
    </main>
  );
}
