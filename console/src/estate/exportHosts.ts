import type { HostSummary } from "../api/types";
import type { HostColumn } from "./columns";

const cell = (text: string) => (/[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);

/** What is shown, as CSV (RFC 4180). */
export function toCsv(hosts: HostSummary[], columns: HostColumn[], now: number): string {
  const lines = [["Host", "System name", ...columns.map((c) => c.title)]];
  for (const host of hosts) lines.push([host.label, host.systemName, ...columns.map((c) => c.text(host, now))]);
  return lines.map((line) => line.map(cell).join(",") + "\r\n").join("");
}

/** The hosts that are shown, as the API gives them. */
export const toJson = (hosts: HostSummary[]): string => JSON.stringify(hosts, null, 2);

/** Hands a text to the browser as a file. */
export function save(name: string, type: string, text: string) {
  const url = URL.createObjectURL(new Blob([text], { type }));
  const link = document.createElement("a");
  link.href = url;
  link.download = name;
  link.click();
  URL.revokeObjectURL(url);
}
