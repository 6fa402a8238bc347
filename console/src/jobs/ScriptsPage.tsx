import { Button, TextInput } from "@mantine/core";
import { useState } from "react";
import { Link } from "react-router";
import { useMe } from "../access/useMay";
import { useScoped } from "../estate/useEstate";
import { Ago } from "../parts/Ago";
import { Empty, Trouble } from "../parts/Trouble";
import { sharingWords, useScripts } from "./scripts";
import { WorkTabs } from "./WorkTabs";

/** The library: scripts that are one's own or shared with one. */
export function ScriptsPage() {
  const mayRun = useMe()?.anywhere.includes("run") ?? false;
  const { scripts, error } = useScripts(mayRun);
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
        <h1>Scripts</h1>
        <WorkTabs />
        {mayRun && (
          <Button size="compact-sm" component={Link} to="/work/scripts/new" style={{ marginLeft: "auto" }}>
            New script
          </Button>
        )}
      </div>
      <Trouble error={error} />
      {!mayRun && (
        <Empty title="Scripts are for those who may run commands">
          None of your grants holds run anywhere; whoever administers can change that.
        </Empty>
      )}
      {scripts && scripts.length === 0 && (
        <Empty title="No script is kept yet">
          Write one, or open a job and keep what it ran. Others see it when you share it with them.
        </Empty>
      )}
      {scripts && scripts.length > 6 && (
        <TextInput
          aria-label="Find a script"
          placeholder="Find a script"
          style={{ maxWidth: 360, marginBottom: 12 }}
          value={sought}
          onChange={(e) => setSought(e.currentTarget.value)}
        />
      )}
      {shown && shown.length > 0 && (
        <div className="rows">
          <div className="row job-row row-head" aria-hidden="true">
            <span>Script</span>
            <span>Parameters</span>
            <span>Whose</span>
            <span>Used</span>
          </div>
          {shown.map((s) => (
            <Link key={s.id} className="row job-row" to={scoped(`/work/scripts/${s.id}`)}>
              <span>
                <b>{s.name}</b>
                {s.description && (
                  <>
                    <br />
                    <span className="muted">{s.description}</span>
                  </>
                )}
              </span>
              <span className="mono muted">{s.parameters.map((p) => p.name).join(", ") || "none"}</span>
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
      {shown?.length === 0 && sought && <Empty title={`No script has “${sought}” in it`} />}
    </main>
  );
}
