import type { HostService, ServiceAct, ServiceStart, ServiceState } from "../api/types";

export const stateWords: Record<ServiceState, string> = {
  runs: "runs",
  starting: "is starting",
  stopping: "is stopping",
  done: "has done its work",
  stopped: "stopped",
  failed: "has failed",
  unknown: "not told",
};

export const startWords: Record<ServiceStart, string> = {
  "with-system": "with the system",
  "by-hand": "by hand",
  "by-others": "by others",
  never: "never: shut off for good",
  unknown: "",
};

export type Which = "all" | "trouble" | "running";

/** Those that have all the words, what has failed first. */
export function arrangeServices(services: HostService[], words: string, which: Which): HostService[] {
  const sought = words.toLowerCase().split(/\s+/).filter(Boolean);
  return services
    .filter(
      (s) =>
        (which === "all" ||
          (which === "trouble" ? s.state === "failed" || s.state === "unknown" : s.state !== "stopped")) &&
        sought.every((w) => `${s.name} ${s.description ?? ""}`.toLowerCase().includes(w)),
    )
    .sort((a, b) => Number(b.state === "failed") - Number(a.state === "failed") || a.name.localeCompare(b.name));
}

export const acts: { act: ServiceAct; label: string }[] = [
  { act: "start", label: "Start" },
  { act: "stop", label: "Stop" },
  { act: "restart", label: "Restart" },
  { act: "reload", label: "Reload" },
  { act: "enable", label: "Start with the system" },
  { act: "disable", label: "Start by hand only" },
  { act: "show", label: "What it needs, and its log" },
];

/** Why an act makes no sense now; undefined where it can be tried. */
export function whyNot(service: HostService, act: ServiceAct): string | undefined {
  const runs = service.state === "runs" || service.state === "starting";
  if (service.start === "never" && (act === "start" || act === "restart" || act === "enable"))
    return "It was shut off for good (masked)";
  if (act === "start" && runs) return "It runs already";
  if ((act === "stop" || act === "reload") && service.state === "stopped") return "It does not run";
  if ((act === "enable" || act === "disable") && service.start === "by-others")
    return "Others that need it start it; it can be neither enabled nor disabled";
  if (act === "enable" && service.start === "with-system") return "It does already";
  if (act === "disable" && service.start === "by-hand") return "It does already";
  return undefined;
}
