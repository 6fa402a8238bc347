import { Select } from "@mantine/core";
import { Link } from "react-router";
import type { ScriptDetail, ScriptInfo } from "../api/types";
import { Trouble } from "../parts/Trouble";
import { ParameterFields } from "./ParameterFields";
import { useScript, useScripts } from "./scripts";
import { shelfOf } from "./steps";
import { StepsView } from "./StepsView";

/** Which script of the library, which version, and with what values. */
export interface Choice {
  id: string | undefined;
  number: number | undefined;
  values: Record<string, string>;
}

const choices = (scripts: ScriptInfo[] | undefined, inSteps: boolean) =>
  (scripts ?? []).filter((s) => (s.steps != null) === inSteps).map((s) => ({ value: s.id, label: s.name }));

export function LibraryChoice({ choice, onChange }: { choice: Choice; onChange: (choice: Choice) => void }) {
  const { scripts, error } = useScripts();
  const chosen = useScript(choice.id, choice.number);
  return (
    <>
      <Select
        label="Script or runbook"
        placeholder={scripts?.length === 0 ? "none is kept yet" : "choose one"}
        nothingFoundMessage="No script and no runbook is called so"
        searchable
        data={[
          { group: "Scripts", items: choices(scripts, false) },
          { group: "Runbooks", items: choices(scripts, true) },
        ].filter((g) => g.items.length > 0)}
        value={choice.id ?? null}
        onChange={(id) => onChange({ id: id ?? undefined, number: undefined, values: {} })}
      />
      <Trouble error={error ?? chosen.error} />
      {chosen.data && <Chosen detail={chosen.data} choice={choice} onChange={onChange} />}
    </>
  );
}

function Chosen({
  detail,
  choice,
  onChange,
}: {
  detail: ScriptDetail;
  choice: Choice;
  onChange: (choice: Choice) => void;
}) {
  const { script, shown, versions } = detail;
  return (
    <>
      {script.description && <p className="muted">{script.description}</p>}
      {versions.length > 1 && (
        <Select
          label="Version"
          data={versions.map((v) => ({
            value: String(v.number),
            label: `${v.number}${v.number === script.latest ? ", the newest" : ""}${v.note ? ` – ${v.note}` : ""}`,
          }))}
          value={String(shown.number)}
          onChange={(n) => onChange({ ...choice, number: Number(n) === script.latest ? undefined : Number(n) })}
          allowDeselect={false}
        />
      )}
      <ParameterFields
        parameters={shown.parameters}
        values={choice.values}
        onChange={(values) => onChange({ ...choice, values })}
      />
      <details>
        <summary>
          {shown.command.steps
            ? `The steps of version ${shown.number}`
            : `The text of version ${shown.number}, ${shown.command.script?.trimEnd().split("\n").length} lines`}
        </summary>
        {shown.command.steps ? (
          <StepsView steps={shown.command.steps} />
        ) : (
          <pre className="output" tabIndex={0}>
            {shown.command.script}
          </pre>
        )}
        <Link to={`${shelfOf(script).path}/${script.id}`}>Open {script.name}</Link>
      </details>
    </>
  );
}
