import { csvOf } from "../parts/file";
import type { HostWord } from "./hostLook";
import { neutralise } from "./output";

/** From worst to least (RFC 5424, 6.2.1). */
export const severities = [
  "emergency",
  "alert",
  "critical",
  "error",
  "warning",
  "notice",
  "information",
  "debug",
] as const;

export type LogSeverity = (typeof severities)[number];

export interface LogLine {
  at?: string | null;
  severity?: LogSeverity | null;
  source?: string | null;
  pid?: number | null;
  text: string;
}

export interface LogFile {
  path: string;
  bytes: number;
  changedAt: string;
}

export interface LogSources {
  journal: boolean;
  files: LogFile[];
}

export interface LogWord extends HostWord {
  sources?: LogSources;
  lines?: LogLine[];
  caughtUp?: boolean;
}

/** What is filled in beside the log. */
export interface LogWanted {
  file: string;
  text: string;
  least: LogSeverity | "";
  since: LogAge;
}

export const ages = [
  { value: "", label: "the newest lines", hours: 0 },
  { value: "hour", label: "of the last hour", hours: 1 },
  { value: "day", label: "of the last day", hours: 24 },
  { value: "week", label: "of the last week", hours: 168 },
] as const;

export type LogAge = (typeof ages)[number]["value"];

/** So many lines are asked for, and kept on screen. */
export const LINES_ASKED = 1000;
export const LINES_SHOWN = 3000;

/** What the host is asked for; what is left empty is left out. */
export function logWish({ file, text, least, since }: LogWanted, now: number): object {
  const hours = ages.find((a) => a.value === since)?.hours ?? 0;
  return {
    lines: LINES_ASKED,
    ...(file ? { file } : {}),
    ...(text.trim() ? { text: text.trim() } : {}),
    ...(least ? { least } : {}),
    ...(hours ? { since: new Date(now - hours * 3_600_000).toISOString() } : {}),
    follow: true,
  };
}

/** What is known behind some more lines; of too many the newest. */
export const withMore = (lines: readonly LogLine[], more: readonly LogLine[]): LogLine[] =>
  [...lines, ...more].slice(-LINES_SHOWN);

/** A line on one line, with nothing in it that moves a cursor. */
export const oneLine = (text: string): string => neutralise(text).replaceAll("\n", "⏎");

export const isGrave = (severity: LogSeverity | null | undefined): boolean =>
  severity != null && severities.indexOf(severity) <= severities.indexOf("error");

/** What is shown, as CSV. */
export const logCsv = (lines: readonly LogLine[]): string =>
  csvOf([
    ["At", "Severity", "Source", "Pid", "Text"],
    ...lines.map((l) => [l.at ?? "", l.severity ?? "", l.source ?? "", `${l.pid ?? ""}`, l.text]),
  ]);
