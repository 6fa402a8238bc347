import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { PageNeeds } from "../access/PageNeeds";
import { api, ask } from "../api/client";
import type { InstallerInfo } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { inScope, readable } from "../estate/hostList";
import { useScope } from "../estate/useEstate";
import { Ago } from "../parts/Ago";
import { exact } from "../parts/time";
import { Empty, Trouble } from "../parts/Trouble";
import { JoinTabs } from "./JoinTabs";
import { NewInstaller } from "./NewInstaller";
import { WaitingPanel } from "./WaitingPanel";
import { stateWords } from "./words";

export function JoinPage() {
  return (
    <PageNeeds permission="approve" title="Join" tabs={<JoinTabs />}>
      <Installers />
    </PageNeeds>
  );
}

function Installers() {
  const [scope] = useScope();
  const [making, setMaking] = useState(false);
  const installers = useQuery({ queryKey: ["installers"], queryFn: () => ask(api.GET("/api/v1/installers")) });
  const [withEnded, setWithEnded] = useState(false);
  const all = (installers.data?.items ?? []).filter((i) => inScope(i, scope));
  const ended = all.filter((i) => i.state !== "valid" && i.waiting === 0);
  const shown = withEnded ? all : all.filter((i) => !ended.includes(i));
  return (
    <main className="page">
      <div className="page-head">
        <h1>Join</h1>
        <JoinTabs />
        <span style={{ flex: 1 }} />
        {!making && (
          <Button variant="filled" onClick={() => setMaking(true)}>
            New installer
          </Button>
        )}
      </div>
      {making && <NewInstaller scope={scope} onClose={() => setMaking(false)} />}
      <WaitingPanel scope={scope} />
      <Trouble error={installers.error} />
      {installers.data &&
        (all.length === 0 ? (
          <Empty title={scope ? `No installer for ${readable(scope)}` : "No installer yet"}>
            Make one with “New installer”, then send its link or run its line.
          </Empty>
        ) : (
          <section aria-labelledby="installers-title">
            <div className="page-head" style={{ marginBottom: 8 }}>
              <h2 id="installers-title">Installers</h2>
              <span className="muted">Each lets computers into one group: by a link, one line or a package</span>
            </div>
            <div className="rows">
              {shown.length === 0 && (
                <Empty title="None is valid any more">Make a new one, or look at the ended ones.</Empty>
              )}
              <div className="row installer-row row-head" aria-hidden="true">
                <span>Group</span>
                <span>State</span>
                <span>Used</span>
                <span>Expires</span>
                <span>Note</span>
              </div>
              {shown.map((installer) => (
                <InstallerRow key={installer.id} installer={installer} scope={scope} />
              ))}
            </div>
            {ended.length > 0 && (
              <Button variant="subtle" color="gray" mt={8} onClick={() => setWithEnded((on) => !on)}>
                {withEnded ? "Hide" : "Show"}{" "}
                {ended.length === 1 ? "one ended installer" : `${ended.length} ended installers`}
              </Button>
            )}
          </section>
        ))}
    </main>
  );
}

function InstallerRow({ installer, scope }: { installer: InstallerInfo; scope: string }) {
  return (
    <Link
      className="row installer-row"
      to={{ pathname: `/join/${installer.id}`, search: scope ? `?scope=${encodeURIComponent(scope)}` : "" }}
    >
      <span className="whose">
        <Emblem customer={installer.groupPath.split("/")[0] ?? ""} />
        {readable(installer.groupPath)}
      </span>
      <span className={installer.state === "valid" ? "" : "muted"}>{stateWords(installer.state)}</span>
      <span>
        {installer.uses}
        {installer.maxUses != null && ` of ${installer.maxUses}`}
        {installer.waiting > 0 && <span className="muted"> · {installer.waiting} wait</span>}
      </span>
      <span>{installer.expiresAt ? exact(installer.expiresAt) : "never"}</span>
      <span>
        {installer.note}{" "}
        <span className="muted">
          {installer.createdBy}, <Ago time={installer.createdAt} />
        </span>
      </span>
    </Link>
  );
}
