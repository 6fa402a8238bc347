import type { CommandSpec, RunPace } from "../api/types";
import { bytes, span } from "../parts/time";

/** What was said about how a job runs, in a line; empty when nothing was. */
export function howWords(command: CommandSpec, pace: RunPace | null | undefined): string {
  const variables = Object.entries(command.environment ?? {}).map(([name, value]) =>
    value && value.length <= 40 ? `${name}=${value}` : name,
  );
  const said = [
    command.user && `as ${command.user}`,
    command.shell && `read by ${command.shell}`,
    command.workingDirectory && `in ${command.workingDirectory}`,
    variables.length > 0 && `with ${variables.join(", ")}`,
    command.input && `with ${bytes(atob(command.input).length)} of input`,
    command.niceness != null && `niceness ${command.niceness}`,
    command.timeoutSeconds != null && `time-out ${span(command.timeoutSeconds * 1000)}`,
    command.outputLimitBytes != null && `output up to ${bytes(command.outputLimitBytes)}`,
    pace?.atOnce != null && `${pace.atOnce} at once`,
    pace?.onePerGroup && "one of each group at once",
    pace?.stopAfterFailures != null &&
      `stops after ${pace.stopAfterFailures} ${pace.stopAfterFailures === 1 ? "failure" : "failures"}`,
  ];
  return said.filter(Boolean).join(", ");
}

/** Lines NAME=VALUE as an object; a line that is none is named. */
export function readVariables(text: string): { variables: Record<string, string> | null; problem?: string } {
  const variables: Record<string, string> = {};
  for (const line of text.split("\n")) {
    if (!line.trim()) continue;
    const at = line.indexOf("=");
    if (at <= 0) return { variables: null, problem: `“${line.trim()}” sets no variable; write NAME=VALUE.` };
    variables[line.slice(0, at).trim()] = line.slice(at + 1);
  }
  return { variables: Object.keys(variables).length ? variables : null };
}

/** Text as the API takes bytes. */
export function toBase64(text: string): string {
  return btoa(Array.from(new TextEncoder().encode(text), (b) => String.fromCharCode(b)).join(""));
}

/** What the fields of "How it runs" hold. */
export interface How {
  input: string;
  user: string;
  directory: string;
  minutes: string | number;
  niceness: string | number;
  megabytes: string | number;
}

export const nothingSaid: How = { input: "", user: "", directory: "", minutes: "", niceness: "", megabytes: "" };
