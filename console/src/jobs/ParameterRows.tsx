import { Button, Checkbox, NumberInput, Select, TextInput } from "@mantine/core";
import { useState } from "react";
import type { ParameterKind, ScriptParameter } from "../api/types";
import { whole } from "../parts/number";
import { isNumber, kinds } from "./scripts";

/** A number or nothing; what is half typed, such as "0." or "-", stays as it stands. */
function Bound({
  label,
  kind,
  value,
  onChange,
}: {
  label: string;
  kind: ParameterKind;
  value: number | null;
  onChange: (value: number | null) => void;
}) {
  const [typed, setTyped] = useState<string | number>(value ?? "");
  return (
    <NumberInput
      label={label}
      hideControls
      allowDecimal={kind === "number"}
      value={whole(typed) === value ? typed : (value ?? "")}
      onChange={(v) => {
        setTyped(v);
        onChange(whole(v));
      }}
    />
  );
}

/** What a script is told each time it runs: its parameters, to be written. */
export function ParameterRows({
  parameters,
  onChange,
}: {
  parameters: ScriptParameter[];
  onChange: (parameters: ScriptParameter[]) => void;
}) {
  const set = (at: number, part: Partial<ScriptParameter>) =>
    onChange(parameters.map((p, i) => (i === at ? { ...p, ...part } : p)));
  return (
    <section aria-labelledby="parameters-title">
      <h2 id="parameters-title">Parameters</h2>
      <p className="muted">
        Asked for each time it runs. The script reads each as a variable of its name: <code>$DAYS</code> in a shell.
      </p>
      {parameters.map((p, at) => (
        <fieldset key={at} className="panel parameter">
          <legend className="unseen">Parameter {p.name || at + 1}</legend>
          <div className="installer-form">
            <TextInput
              label="Name"
              classNames={{ input: "mono" }}
              placeholder="DAYS"
              value={p.name}
              onChange={(e) => set(at, { name: e.currentTarget.value.trim() })}
              spellCheck={false}
            />
            <Select
              label="Kind"
              data={kinds}
              value={p.kind}
              allowDeselect={false}
              onChange={(kind) => set(at, { kind: kind as ParameterKind, choices: null, least: null, most: null })}
            />
            {p.kind === "choice" && (
              <TextInput
                label="Its words"
                placeholder="quiet, loud"
                value={(p.choices ?? []).join(",")}
                onChange={(e) => set(at, { choices: e.currentTarget.value.split(",") })}
              />
            )}
            {isNumber(p.kind) && (
              <>
                <Bound
                  label="At least"
                  kind={p.kind}
                  value={p.least ?? null}
                  onChange={(least) => set(at, { least })}
                />
                <Bound label="At most" kind={p.kind} value={p.most ?? null} onChange={(most) => set(at, { most })} />
              </>
            )}
            <TextInput
              label="Without a value it is"
              placeholder={p.optional ? "not set" : "asked for"}
              classNames={{ input: "mono" }}
              value={p.default ?? ""}
              onChange={(e) => set(at, { default: e.currentTarget.value || null })}
            />
            <TextInput
              label="What it is"
              value={p.description ?? ""}
              onChange={(e) => set(at, { description: e.currentTarget.value || null })}
            />
          </div>
          <div className="acts" style={{ marginTop: 10 }}>
            <Checkbox
              label="May stay without a value"
              checked={p.optional ?? false}
              onChange={(e) => set(at, { optional: e.currentTarget.checked })}
            />
            <Button
              size="compact-xs"
              variant="subtle"
              color="gray"
              aria-label={`Leave out the parameter ${p.name || at + 1}`}
              onClick={() => onChange(parameters.filter((_, i) => i !== at))}
            >
              Leave it out
            </Button>
          </div>
        </fieldset>
      ))}
      <Button
        size="compact-sm"
        variant="default"
        onClick={() => onChange([...parameters, { name: "", kind: "text", optional: false }])}
      >
        Add a parameter
      </Button>
    </section>
  );
}
