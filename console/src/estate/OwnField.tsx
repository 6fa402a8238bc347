import { NumberInput, Select, TextInput } from "@mantine/core";
import type { OwnFieldInfo } from "../api/types";

/** A value of a customer's own field, typed or chosen as its kind wants it. */
export function OwnField({
  field,
  value,
  onChange,
}: {
  field: OwnFieldInfo;
  value: string;
  onChange: (value: string) => void;
}) {
  switch (field.kind) {
    case "choice":
      return (
        <Select
          label={field.name}
          clearable
          placeholder="nothing chosen"
          data={field.choices}
          value={value || null}
          onChange={(v) => onChange(v ?? "")}
        />
      );
    case "number":
      return <NumberInput label={field.name} value={value} onChange={(v) => onChange(String(v))} />;
    default:
      return (
        <TextInput
          label={field.name}
          type={field.kind === "date" ? "date" : "text"}
          value={value}
          onChange={(e) => onChange(e.currentTarget.value)}
        />
      );
  }
}
