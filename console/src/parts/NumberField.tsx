import { NumberInput, type NumberInputProps } from "@mantine/core";
import { useState } from "react";

/** A field for a number. Emptied it is empty, and counts as 0: a 0 that stood there would come before what is typed next. */
export function NumberField({
  value,
  onChange,
  ...rest
}: Omit<NumberInputProps, "value" | "onChange"> & { value: number; onChange: (value: number) => void }) {
  const [typed, setTyped] = useState<string | number>(value);
  return (
    <NumberInput
      {...rest}
      value={Number(typed) === value ? typed : value}
      onChange={(v) => {
        setTyped(v);
        onChange(Number(v) || 0);
      }}
    />
  );
}
