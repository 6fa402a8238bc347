import { NumberInput, Textarea, TextInput } from "@mantine/core";
import type { CommandSpec } from "../api/types";
import { bytes, span } from "../parts/time";
import { whole } from "../parts/number";
import { toBase64, type How } from "./how";

/** How a command or a script runs. Where nothing is said, `usual` says it: what a kept script says of itself. */
export function HowFields({
  how,
  onChange,
  mayChoose,
  usual = {},
  children,
}: {
  how: How;
  onChange: (how: How) => void;
  mayChoose: boolean;
  usual?: Partial<CommandSpec>;
  children?: React.ReactNode;
}) {
  const set = (part: Partial<How>) => onChange({ ...how, ...part });
  return (
    <div className="installer-form">
      <TextInput
        label="As which system user"
        description={mayChoose ? undefined : "You may not choose one (permission choose-user)"}
        disabled={!mayChoose}
        classNames={{ input: "mono" }}
        placeholder={usual.user ?? "the agent's own"}
        value={how.user}
        onChange={(e) => set({ user: e.currentTarget.value })}
      />
      <TextInput
        label="In which directory"
        classNames={{ input: "mono" }}
        placeholder={usual.workingDirectory ?? "that user's home"}
        value={how.directory}
        onChange={(e) => set({ directory: e.currentTarget.value })}
      />
      {children}
      <NumberInput
        label="Time-out, minutes"
        placeholder={usual.timeoutSeconds != null ? span(usual.timeoutSeconds * 1000) : "none"}
        min={0.1}
        value={how.minutes}
        onChange={(minutes) => set({ minutes })}
      />
      <NumberInput
        label="Niceness"
        placeholder={usual.niceness != null ? String(usual.niceness) : "the agent's own"}
        min={-20}
        max={19}
        allowDecimal={false}
        value={how.niceness}
        onChange={(niceness) => set({ niceness })}
      />
      <NumberInput
        label="Output kept of each host, MiB"
        placeholder={usual.outputLimitBytes != null ? bytes(usual.outputLimitBytes) : "1024"}
        min={0}
        max={65536}
        value={how.megabytes}
        onChange={(megabytes) => set({ megabytes })}
      />
      <Textarea
        className="whole"
        label="What it reads on standard input"
        placeholder={usual.input ? `${bytes(atob(usual.input).length)} that are kept with it` : "nothing"}
        classNames={{ input: "mono" }}
        autosize
        minRows={2}
        maxRows={12}
        value={how.input}
        onChange={(e) => set({ input: e.currentTarget.value })}
        spellCheck={false}
      />
    </div>
  );
}

/** What was said of it, as a part of a command; what was not said is left out. */
export function commandPart(how: How): Partial<CommandSpec> {
  const timeout = whole(how.minutes);
  const limit = whole(how.megabytes);
  return {
    ...(how.input ? { input: toBase64(how.input) } : {}),
    ...(how.user.trim() ? { user: how.user.trim() } : {}),
    ...(how.directory.trim() ? { workingDirectory: how.directory.trim() } : {}),
    ...(whole(how.niceness) !== null ? { niceness: whole(how.niceness) } : {}),
    ...(timeout !== null ? { timeoutSeconds: timeout * 60 } : {}),
    ...(limit !== null ? { outputLimitBytes: Math.round(limit * 1024 * 1024) } : {}),
  };
}
