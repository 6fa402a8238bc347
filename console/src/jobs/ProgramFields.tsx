import { Select, TextInput } from "@mantine/core";
import type { HostAction } from "../api/types";

/** What can be done about a program or a service on many hosts. */
export const programActs = [
  { value: "find", label: "Say which hosts run this program" },
  { value: "end", label: "Ask this program to end, everywhere" },
  { value: "kill", label: "Kill this program, everywhere" },
  { value: "restart", label: "Restart this service" },
  { value: "start", label: "Start this service" },
  { value: "stop", label: "Stop this service" },
  { value: "reload", label: "Reload this service" },
  { value: "enable", label: "Have this service start with the system" },
  { value: "disable", label: "Have this service start by hand only" },
  { value: "show", label: "Say how this service stands, and its log" },
] as const;

export type ProgramAct = (typeof programActs)[number]["value"];

export const isProgramAct = (word: string | null): word is ProgramAct => programActs.some((a) => a.value === word);

/** What the agents are asked to do. */
export function actOn(name: string, act: ProgramAct): HostAction {
  switch (act) {
    case "find":
      return { find: { text: name } };
    case "end":
    case "kill":
      return { end: { which: { program: name }, force: act === "kill" } };
    default:
      return { service: { name, act } };
  }
}

/** Which program or service, and what is to be done about it on the hosts. */
export function ProgramFields({
  program,
  onProgram,
  act,
  onAct,
}: {
  program: string;
  onProgram: (program: string) => void;
  act: ProgramAct;
  onAct: (act: ProgramAct) => void;
}) {
  return (
    <div className="installer-form">
      <TextInput
        label="Program or service"
        description={
          act === "find"
            ? "Words in the name, the user or the command line of a process."
            : act === "end" || act === "kill"
              ? "The program’s name in full, without the directory."
              : "The service’s name, such as cups."
        }
        classNames={{ input: "mono" }}
        placeholder="firefox-esr"
        value={program}
        onChange={(e) => onProgram(e.currentTarget.value)}
        spellCheck={false}
      />
      <Select
        label="What is to be done"
        data={[...programActs]}
        value={act}
        onChange={(a) => isProgramAct(a) && onAct(a)}
        allowDeselect={false}
      />
    </div>
  );
}
