import type { HostSummary } from "../api/types";
import { csvOf } from "../parts/file";
import type { HostColumn } from "./columns";

/** What is shown, as CSV. */
export function toCsv(hosts: HostSummary[], columns: HostColumn[], now: number): string {
  const lines = [["Host", "System name", ...columns.map((c) => c.title)]];
  for (const host of hosts) lines.push([host.label, host.systemName, ...columns.map((c) => c.text(host, now))]);
  return csvOf(lines);
}

/** The hosts that are shown, as the API gives them. */
export const toJson = (hosts: HostSummary[]): string => JSON.stringify(hosts, null, 2);
