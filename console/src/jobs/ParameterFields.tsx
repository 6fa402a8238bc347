import { Select, TextInput } from "@mantine/core";
import type { ScriptParameter } from "../api/types";
import { fits, isNumber } from "./scripts";

/** The values of a script's parameters, each asked for by its kind. */
export function ParameterFields({
  parameters,
  values,
  onChange,
}: {
  parameters: ScriptParameter[];
  values: Record<string, string>;
  onChange: (values: Record<string, string>) => void;
}) {
  if (parameters.length === 0) return <p className="muted">This script has no parameters.</p>;
  return (
    <div className="installer-form" role="group" aria-label="Parameters">
      {parameters.map((p) => (
        <ParameterField
          key={p.name}
          parameter={p}
          value={values[p.name] ?? ""}
          onChange={(value) => onChange({ ...values, [p.name]: value })}
        />
      ))}
    </div>
  );
}

function ParameterField({
  parameter: p,
  value,
  onChange,
}: {
  parameter: ScriptParameter;
  value: string;
  onChange: (value: string) => void;
}) {
  const common = {
    label: p.name,
    description: `${p.description ? `${p.description}: ${first(fits(p))}` : fits(p)}${p.optional ? ", or nothing" : ""}`,
    withAsterisk: !p.optional && p.default == null,
    placeholder: p.default ?? (p.optional ? "nothing" : undefined),
  };
  if (p.kind === "choice" || p.kind === "yes-no") {
    return (
      <Select
        {...common}
        data={p.kind === "yes-no" ? ["yes", "no"] : (p.choices ?? [])}
        value={value || null}
        onChange={(v) => onChange(v ?? "")}
        clearable={p.optional === true || p.default != null}
      />
    );
  }
  return (
    <TextInput
      {...common}
      type={p.kind === "day" ? "date" : "text"}
      inputMode={isNumber(p.kind) ? "decimal" : undefined}
      classNames={{ input: "mono" }}
      value={value}
      onChange={(e) => onChange(e.currentTarget.value)}
      spellCheck={false}
      autoComplete="off"
    />
  );
}

const first = (words: string) => words.charAt(0).toLowerCase() + words.slice(1);
