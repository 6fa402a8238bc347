import { NumberInput, TextInput } from "@mantine/core";
import type { PowerAct } from "../api/types";
import { takesGrace, takesPerson } from "./power";

export interface PowerSaid {
  minutes: string | number;
  message: string;
  person: string;
}

export const nothingSaidOfPower: PowerSaid = { minutes: 1, message: "", person: "" };

/** How an act on a computer goes: whom it is about, how long people are told before, and what. */
export function PowerFields({
  act,
  said,
  onSaid,
  there,
}: {
  act: PowerAct;
  said: PowerSaid;
  onSaid: (said: PowerSaid) => void;
  /** Who is logged in, where that is known. */
  there?: string[];
}) {
  return (
    <div className="installer-form">
      {takesPerson(act) && (
        <TextInput
          label="Person"
          description="A logon; everybody when left empty."
          classNames={{ input: "mono" }}
          placeholder={there?.[0] ?? "elin.marlow"}
          value={said.person}
          onChange={(e) => onSaid({ ...said, person: e.currentTarget.value })}
          spellCheck={false}
        />
      )}
      {takesGrace(act) && (
        <>
          <NumberInput
            label="Time before it, minutes"
            description={
              there?.length === 0
                ? "Nobody is logged in: it is done at once."
                : "Whoever is logged in is told; where nobody is, it is done at once."
            }
            min={0}
            max={1440}
            value={said.minutes}
            onChange={(minutes) => onSaid({ ...said, minutes })}
          />
          <TextInput
            label="What they are told why"
            placeholder="new printer driver"
            maxLength={300}
            value={said.message}
            onChange={(e) => onSaid({ ...said, message: e.currentTarget.value })}
          />
        </>
      )}
    </div>
  );
}
