import { Checkbox, NumberInput } from "@mantine/core";
import { whole } from "../parts/number";

/** How the hosts of a job take turns, and how long it waits for those that are away. */
export interface Turns {
  atOnce: string | number;
  onePerGroup: boolean;
  stopAfter: string | number;
  hours: string | number;
  usesVault: boolean;
}

export const allAtOnce: Turns = { atOnce: "", onePerGroup: false, stopAfter: "", hours: "", usesVault: false };

/** As a new job says it. */
export function turnsOf(turns: Turns) {
  const [atOnce, stopAfterFailures, expires] = [whole(turns.atOnce), whole(turns.stopAfter), whole(turns.hours)];
  return {
    expiresInSeconds: expires === null ? null : Math.round(expires * 3600),
    usesVault: turns.usesVault,
    pace:
      atOnce !== null || turns.onePerGroup || stopAfterFailures !== null
        ? { atOnce, onePerGroup: turns.onePerGroup, stopAfterFailures }
        : null,
  };
}

export function TurnFields({
  turns,
  onTurns,
  usualWait,
}: {
  turns: Turns;
  onTurns: (turns: Turns) => void;
  usualWait: string;
}) {
  const set = (part: Partial<Turns>) => onTurns({ ...turns, ...part });
  return (
    <details>
      <summary>Turns and waiting</summary>
      <div className="installer-form">
        <NumberInput
          label="Hosts at the same time"
          placeholder="all of them"
          min={1}
          allowDecimal={false}
          value={turns.atOnce}
          onChange={(atOnce) => set({ atOnce })}
        />
        <NumberInput
          label="Stop after so many failures"
          placeholder="never"
          min={1}
          allowDecimal={false}
          value={turns.stopAfter}
          onChange={(stopAfter) => set({ stopAfter })}
        />
        <NumberInput
          label="Wait for hosts that are away, hours"
          placeholder={usualWait}
          min={0.1}
          max={1440}
          value={turns.hours}
          onChange={(hours) => set({ hours })}
        />
        <Checkbox
          label="At most one of each group at the same time"
          checked={turns.onePerGroup}
          onChange={(e) => set({ onePerGroup: e.currentTarget.checked })}
        />
        <Checkbox
          label="Prove access keys from the vault where hosts ask for one"
          checked={turns.usesVault}
          onChange={(e) => set({ usesVault: e.currentTarget.checked })}
        />
      </div>
    </details>
  );
}
