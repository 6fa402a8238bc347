import { Button, TextInput } from "@mantine/core";
import { useState } from "react";
import { Link } from "react-router";
import { useMe } from "../access/useMay";
import { useScoped } from "../estate/useEstate";
import { Ago } from "../parts/Ago";
import { Empty, Trouble } from "../parts/Trouble";
import { sharingWords, useScripts } from "./scripts";
import type { Shelf } from "./steps";
import { WorkTabs } from "./WorkTabs";

/** The library: scripts, or runbooks, that are one's own or shared with one. */
export function ScriptsPage({ shelf }: { shelf: Shelf }) {
  const { word, path, hasSteps } = shelf;
  const title = hasSteps ? "Runbooks" : "Scripts";
  const mayRun = useMe()?.anywhere.includes("run") ?? false;
  const library = useScripts(mayRun);
  const scripts = library.scripts?.filter((s) => (s.steps != null) === hasSteps);
  const scoped = useScoped();
  const [sought, setSought] = useState("");
  const words = sought.toLowerCase().split(/\s+/).filter(Boolean);
  const shown = scripts?.filter((s) => {
    const text = [s.name, s.description, s.owner, ...s.parameters.map((p) => p.name)].join(" ").toLowerCase();
    return words.every((w) => text.includes(w));
  });
  return (
    <main className="page">
      <div className="page-head">
        <h1>{title}</h1>
        <WorkTabs />
        {mayRun && (
          <Button size="compact-sm" component={Link} to={`${path}/new`} style={{ marginLeft: "auto" }}>
            New {word}
          </Button>
        )}
      </div>
      <Trouble error={library.error} />
      {!mayRun && (
        <Empty title={`${title} are for those who may run commands`}>
          None of your grants holds run anywhere; whoever administers can change that.
        </Empty>
      )}
      {scripts && scripts.length === 0 && (
        <Empty title={`No ${word} is kept yet`}>
          {hasSteps
            ? "A runbook is a document whose steps are run one after the other, each when its conditions are met."
            : "Write one, or open a job and keep what it ran."}{" "}
          Others see it when you share it with them.
        </Empty>
      )}
      {scripts && scripts.length > 6 && (
        <TextInput
          aria-label={`Find a ${word}`}
          placeholder={`Find a ${word}`}
          style={{ maxWidth: 360, marginBottom: 12 }}
          value={sought}
          onChange={(e) => setSought(e.currentTarget.value)}
        />
      )}
      {shown && shown.length > 0 && (
        <div className="rows">
          <div className="row job-row row-head" aria-hidden="true">
            <span>{hasSteps ? "Runbook" : "Script"}</span>
            <span>{hasSteps ? "Steps and parameters" : "Parameters"}</span>
            <span>Whose</span>
            <span>Used</span>
          </div>
          {shown.map((s) => (
            <Link key={s.id} className="row job-row" to={scoped(`${path}/${s.id}`)}>
              <span>
                <b>{s.name}</b>
                {s.description && (
                  <>
                    <br />
                    <span className="muted">{s.description}</span>
                  </>
                )}
              </span>
              <span className="muted">
                {s.steps != null && `${s.steps} ${s.steps === 1 ? "step" : "steps"}, `}
                <span className="mono">
                  {s.parameters.map((p) => p.name).join(", ") || (hasSteps ? "no parameters" : "none")}
                </span>
              </span>
              <span>
                {s.owner}
                <br />
                <span className="muted">for {sharingWords(s.sharing)}</span>
              </span>
              <span>
                {s.lastUsedAt ? (
                  <>
                    <Ago time={s.lastUsedAt} />
                    <br />
                    <span className="muted">
                      {s.jobs} {s.jobs === 1 ? "job" : "jobs"}, version {s.latest}
                    </span>
                  </>
                ) : (
                  <span className="muted">never, version {s.latest}</span>
                )}
              </span>
            </Link>
          ))}
        </div>
      )}
      {shown?.length === 0 && sought && <Empty title={`No ${word} has “${sought}” in it`} />}
    </main>
  );
}
