import type { Probe, ProbeFigure, ProbeKind, ProbeState } from "../api/types";
import { span } from "../parts/time";

export interface ProbeKindWords {
  kind: ProbeKind;
  label: string;
  /** What is asked for, and an example of it; null for a script, which is its own target. */
  target: string | null;
  example: string;
  /** The second thing that it takes, and whether it has to be there. */
  text?: { label: string; needed: boolean; example: string; lines?: boolean };
  /** An example of limits to its figures; null where it has none. */
  limits: string | null;
  /** What the hosts have to allow. */
  needs?: string;
}

export const probeKinds: ProbeKindWords[] = [
  {
    kind: "service",
    label: "a service runs",
    target: "The service",
    example: "ticket-print",
    limits: null,
  },
  {
    kind: "program",
    label: "a program runs",
    target: "The program, by its name or whole path",
    example: "/opt/till/tillserver",
    text: { label: "A text its command line has to hold", needed: false, example: "--shop 3" },
    limits: "count < 2",
  },
  {
    kind: "port",
    label: "a port takes connections",
    target: "Host and TCP port",
    example: "printer-2.quay.example:9100",
    limits: "took > 2 s",
  },
  {
    kind: "web",
    label: "a web address answers well",
    target: "The whole address",
    example: "https://catalogue.copperbeech.example/health",
    text: { label: "A text the answer has to hold", needed: false, example: "ready" },
    limits: "took > 3 s",
  },
  {
    kind: "ping",
    label: "a host answers echoes",
    target: "The host or its address",
    example: "192.0.2.1",
    limits: "lost > 50 %",
  },
  {
    kind: "log",
    label: "a log gets no such lines",
    target: "The log's whole path",
    example: "/var/log/capture.log",
    text: { label: "Such lines, as a regular expression", needed: true, example: "frame (dropped|late)" },
    limits: null,
    needs: "The hosts have to allow reading files.",
  },
  {
    kind: "script",
    label: "a script ends with 0",
    target: null,
    example: "",
    text: {
      label: "The script",
      needed: true,
      example: "#!/bin/sh\necho queue=$(ls /var/spool/till | wc -l)",
      lines: true,
    },
    limits: "queue > 100",
    needs: "The hosts have to allow commands. Lines like queue=14 or age=7 h are its figures.",
  },
  {
    kind: "certificate",
    label: "a certificate is valid",
    target: "Its file, or a host and port that shows it",
    example: "shop.tarnvalley.example:443",
    limits: "left < 14 d",
  },
];

export const wordsOf = (kind: ProbeKind) =>
  probeKinds.find((k) => k.kind === kind) ?? (probeKinds[0] as ProbeKindWords);

export const newProbe = (kind: ProbeKind): Probe => ({
  kind,
  target: "",
  text: null,
  everySeconds: kind === "certificate" ? 3600 : 60,
  timeoutSeconds: 10,
  graceSeconds: 60,
  act: "none",
  actScript: null,
});

/** Where a probe stands, in a word or two. */
export function probeStateWords(state: ProbeState | undefined, past: string | null | undefined): string {
  if (state === "failed") return "failed";
  if (state === "well") return past ? `past ${past}` : "well";
  return state === "starting" ? "starting" : "not known";
}

export const isBad = (state: ProbeState | undefined, past: string | null | undefined) =>
  state === "failed" || (state === "well" && Boolean(past));

/** A figure as people read it. */
export function figureWords(f: ProbeFigure): string {
  const round = (v: number, digits: number) => Number(v.toFixed(digits)).toLocaleString("en");
  if (f.unit === "percent") return `${f.name} ${round(f.value, 1)} %`;
  if (f.unit === "size") return `${f.name} ${round(f.value / 1024 ** 2, 1)} MiB`;
  if (f.unit === "time") {
    if (Math.abs(f.value) < 1) return `${f.name} ${round(f.value * 1000, 0)} ms`;
    return `${f.name} ${f.value < 0 ? "−" : ""}${span(Math.abs(f.value) * 1000)}`;
  }
  return `${f.name} ${round(f.value, 3)}`;
}
