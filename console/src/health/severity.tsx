import type { AlertInfo, AlertState, HostSummary, Severity, Subsystem } from "../api/types";
import { exact, span } from "../parts/time";

export const severities: Severity[] = ["critical", "warning", "information"];

export const subsystems: Subsystem[] = [
  "reachability",
  "processor",
  "memory",
  "storage",
  "services",
  "updates",
  "security",
  "hardware",
];

const tone: Record<Severity, string> = { critical: "trouble", warning: "warning", information: "info" };

/** Filled, half and thin: what the colour says, the shape says too. */
export function SeverityMark({ severity }: { severity: Severity }) {
  return (
    <svg className={tone[severity]} width="14" height="14" viewBox="0 0 14 14" aria-hidden="true">
      <path d="M7 1.6 13 12.6H1z" fill="none" stroke="currentColor" strokeWidth="1.4" strokeLinejoin="round" />
      {severity === "critical" && <path d="M7 1.6 13 12.6H1z" fill="currentColor" />}
      {severity === "warning" && <path d="M7 1.6v11H1z" fill="currentColor" />}
    </svg>
  );
}

/** Mark and word. */
export const SeverityWord = ({ severity }: { severity: Severity }) => (
  <span className={`severity ${tone[severity]}`}>
    <SeverityMark severity={severity} />
    {severity}
  </span>
);

/** Beside a host's name: how bad the worst of its alerts is; nothing where there is none. */
export function HostAlerts({ host }: { host: HostSummary }) {
  if (!host.worst) return null;
  const words = `${host.alerts} ${host.alerts === 1 ? "alert" : "alerts"}, ${host.worst}`;
  return (
    <span className="host-alerts" title={words}>
      <SeverityMark severity={host.worst} />
      <span className="hidden-text">{words}</span>
    </span>
  );
}

const states: Record<AlertState, string> = {
  open: "open",
  acknowledged: "somebody is at it",
  snoozed: "quiet",
  cleared: "cleared",
  dismissed: "dismissed",
};

/** Where an alert stands, by whom, and until when. */
export function stateWords(alert: AlertInfo, now: number): string {
  if (alert.state === "acknowledged" && alert.stateBy) return `${alert.stateBy} is at it`;
  if (alert.state === "snoozed" && alert.snoozedUntil)
    return `quiet for ${span(Date.parse(alert.snoozedUntil) - now)} more, by ${alert.stateBy ?? "somebody"}`;
  if (alert.state === "cleared") return `cleared ${span(now - Date.parse(alert.stateAt))} ago`;
  if (alert.state === "dismissed") return `dismissed by ${alert.stateBy ?? "somebody"}`;
  return states[alert.state];
}

/** Said beside an alert whose host is in a maintenance window. */
export const quietWords = (alert: AlertInfo, now: number) =>
  alert.quietUntil ? `maintenance for ${span(Date.parse(alert.quietUntil) - now)} more` : "";

export const stateTitle = (alert: AlertInfo) => `${states[alert.state]} since ${exact(alert.stateAt)}`;
