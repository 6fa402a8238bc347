import { Button, Modal } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, ask } from "../api/client";
import type { ScriptComparison, ScriptInfo } from "../api/types";
import { Ago } from "../parts/Ago";
import { Empty, Trouble } from "../parts/Trouble";
import { ComparedLines } from "./Comparison";
import { onlyDifferent } from "./answers";
import { howWords } from "./how";
import { neutralise } from "./output";
import { ScriptSharing } from "./ScriptSharing";
import { shelfOf } from "./steps";
import { StepsView } from "./StepsView";
import { fits, sharingWords, useScript, useScriptAct } from "./scripts";

/** One script: what it asks for, its text, its versions and what changed between them. */
export function ScriptPage() {
  const { id = "" } = useParams();
  const [query, setQuery] = useSearchParams();
  const number = Number(query.get("version")) || undefined;
  const against = Number(query.get("against")) || undefined;
  const { data, error } = useScript(id, number);
  const [sharing, setSharing] = useState(false);
  const [removing, setRemoving] = useState(false);
  if (error && !data) {
    return (
      <main className="page">
        <Empty title="This script can't be shown">
          {error.message} <Link to="/work/scripts">All scripts</Link>, <Link to="/work/runbooks">all runbooks</Link>
        </Empty>
      </main>
    );
  }
  if (!data) return <main className="page" />;
  const { script, shown, versions } = data;
  const isNewest = shown.number === script.latest;
  const shelf = shelfOf(script);
  const steps = shown.command.steps;
  const how = howWords({ ...shown.command, script: null, steps: null }, null);
  const show = (version: number, other?: number) =>
    setQuery(
      (q) => {
        q.delete("against");
        q.delete("version");
        if (version !== script.latest) q.set("version", String(version));
        if (other) q.set("against", String(other));
        return q;
      },
      { replace: true },
    );
  return (
    <main className="page script-page">
      <div className="page-head">
        <h1>{script.name}</h1>
        <div className="acts">
          <Button
            size="compact-sm"
            variant="filled"
            component={Link}
            to={`/work/new?script=${id}${isNewest ? "" : `&version=${shown.number}`}`}
          >
            Run {isNewest ? "it" : `version ${shown.number}`}
          </Button>
          {script.mayChange && (
            <Button size="compact-sm" variant="default" component={Link} to={`${shelf.path}/${id}/edit`}>
              Write the next version
            </Button>
          )}
          {steps && (
            <Button
              size="compact-sm"
              variant="default"
              component="a"
              href={`/api/v1/scripts/${id}/document?number=${shown.number}`}
              download
            >
              As a document
            </Button>
          )}
          {script.mayGovern && (
            <>
              <Button size="compact-sm" variant="default" onClick={() => setSharing(true)}>
                Name and sharing
              </Button>
              <Button size="compact-sm" variant="subtle" color="gray" onClick={() => setRemoving(true)}>
                Remove
              </Button>
            </>
          )}
        </div>
      </div>
      {script.description && <p style={{ marginTop: 0 }}>{script.description}</p>}
      <p className="muted" style={{ marginTop: 0 }}>
        {script.owner}’s, for {sharingWords(script.sharing)}
        {!script.mayChange && `. Only ${script.owner} and those with whom it is shared for it write new versions`}
      </p>
      {against ? (
        <Versions id={id} from={against} to={shown.number} onClose={() => show(shown.number)} />
      ) : (
        <>
          {shown.parameters.length > 0 && (
            <table className="matrix" aria-label="Parameters">
              <thead>
                <tr>
                  <th scope="col">Parameter</th>
                  <th scope="col">What fits</th>
                  <th scope="col">Without a value</th>
                  <th scope="col">What it is</th>
                </tr>
              </thead>
              <tbody>
                {shown.parameters.map((p) => (
                  <tr key={p.name}>
                    <th scope="row" className="mono">
                      {p.name}
                    </th>
                    <td>{fits(p)}</td>
                    <td className={p.default != null ? "mono" : "muted"}>
                      {p.default ?? (p.optional ? "not set" : "asked for")}
                    </td>
                    <td>{p.description}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          <h2>
            Version {shown.number}
            {!isNewest && <span className="muted"> of {script.latest}</span>}
          </h2>
          {how && <p className="muted">{how}</p>}
          {steps ? (
            <StepsView steps={steps} />
          ) : (
            <pre className="output" tabIndex={0} aria-label={`Text of version ${shown.number}`}>
              {neutralise(shown.command.script ?? "")}
            </pre>
          )}
        </>
      )}
      <h2>Versions</h2>
      <div className="rows">
        {versions.map((v) => (
          <div key={v.number} className="row version-row">
            <span>
              <b>{v.number}</b>
              {v.number === shown.number && <span className="muted"> shown</span>}
            </span>
            <span>
              {v.note ?? <span className="muted">no note</span>}
              <br />
              <span className="muted">
                {v.steps != null && `${v.steps} ${v.steps === 1 ? "step" : "steps"}, `}
                {v.lines} {v.lines === 1 ? "line" : "lines"}, <Ago time={v.createdAt} /> by {v.createdBy}
              </span>
            </span>
            <span className="acts">
              {v.number !== shown.number && (
                <>
                  <Button size="compact-xs" variant="default" onClick={() => show(v.number)}>
                    Show version {v.number}
                  </Button>
                  <Button size="compact-xs" variant="default" onClick={() => show(shown.number, v.number)}>
                    Compare {v.number} with {shown.number}
                  </Button>
                </>
              )}
            </span>
          </div>
        ))}
      </div>
      {sharing && <ScriptSharing script={script} onClose={() => setSharing(false)} />}
      {removing && <RemoveScript script={script} onClose={() => setRemoving(false)} />}
    </main>
  );
}

function Versions({ id, from, to, onClose }: { id: string; from: number; to: number; onClose: () => void }) {
  const [first, second] = from < to ? [from, to] : [to, from];
  const { data, error } = useQuery({
    queryKey: ["scripts", id, "comparison", first, second],
    queryFn: () =>
      ask(
        api.GET("/api/v1/scripts/{id}/comparison", { params: { path: { id }, query: { from: first, to: second } } }),
      ) as Promise<ScriptComparison>,
    staleTime: Infinity,
  });
  if (error) return <Trouble error={error} />;
  if (!data) return <p className="muted">Comparing …</p>;
  const names = { one: `version ${first}`, other: `version ${second}` };
  const settings = data.settings.some((l) => l.kind !== "same");
  const text = data.text.some((l) => l.kind !== "same");
  return (
    <>
      <h2>
        From version {first} to {second}{" "}
        <Button size="compact-xs" variant="default" onClick={onClose}>
          Back to the text
        </Button>
      </h2>
      {settings && <ComparedLines {...names} of="parameters and how it runs" lines={onlyDifferent(data.settings)} />}
      {text ? (
        <ComparedLines {...names} of="text" lines={onlyDifferent(data.text)} />
      ) : (
        <p className="muted">The text is the same{settings ? "" : ", and so is the rest"}.</p>
      )}
    </>
  );
}

function RemoveScript({ script, onClose }: { script: ScriptInfo; onClose: () => void }) {
  const navigate = useNavigate();
  const remove = useScriptAct(
    () => ask(api.DELETE("/api/v1/scripts/{id}", { params: { path: { id: script.id } } })),
    () => void navigate(shelfOf(script).path),
  );
  return (
    <Modal opened onClose={onClose} title={`Remove ${script.name}`}>
      <p style={{ marginTop: 0 }}>
        {script.latest === 1 ? "Its one version goes" : `All ${script.latest} versions go`} with it, for everybody who
        uses it. This can’t be undone. Jobs that were made of it keep what they ran.
      </p>
      <Trouble error={remove.error} />
      <Button color="red" loading={remove.isPending} onClick={() => remove.mutate(undefined)}>
        Remove {script.name}
      </Button>
    </Modal>
  );
}
