import type { HostSummary } from "../api/types";
import { span } from "../parts/time";
import { customerOf } from "./emblem";
import { readable } from "./hostList";
import { describe } from "./presence";

/** A column of the hosts table. */
export interface HostColumn {
  id: string;
  title: string;
  /** A grid track. */
  width: string;
  number?: boolean;
  /** What it shows, as text; also what is exported. */
  text: (host: HostSummary, now: number) => string;
  /** What it is ordered by; the text when left out. */
  order?: (host: HostSummary) => number | string;
  /** Changes while one looks at it, so its order is renewed only now and then. */
  live?: boolean;
}

const percent = (value: number | null | undefined) => (value == null ? "–" : `${Math.round(value)} %`);
const since = (time: string | null | undefined, now: number) => (time ? span(now - Date.parse(time)) : "–");

export const columns: HostColumn[] = [
  {
    id: "presence",
    title: "Presence",
    width: "minmax(200px, 1.5fr)",
    live: true,
    text: (h, now) => {
      const p = describe(h.presence);
      return `${p.word}${p.mark === "open" ? ` ${since(h.presence.since, now)}` : ""}${p.reason ? `, ${p.reason}` : ""}`;
    },
    order: (h) => `${describe(h.presence).word} ${h.presence.since}`,
  },
  {
    id: "users",
    title: "Logged in",
    width: "minmax(110px, 1fr)",
    text: (h) => h.users.join(", ") || "nobody",
    order: (h) => h.users.join(", ") || "\uffff",
  },
  {
    id: "processor",
    title: "Processor",
    width: "88px",
    number: true,
    live: true,
    text: (h) => percent(h.processorPercent),
    order: (h) => h.processorPercent ?? -1,
  },
  {
    id: "memory",
    title: "Memory",
    width: "88px",
    number: true,
    live: true,
    text: (h) => percent(h.memoryUsedPercent),
    order: (h) => h.memoryUsedPercent ?? -1,
  },
  {
    id: "storage",
    title: "Storage",
    width: "88px",
    number: true,
    live: true,
    text: (h) => percent(h.storageUsedPercent),
    order: (h) => h.storageUsedPercent ?? -1,
  },
  {
    id: "alerts",
    title: "Alerts",
    width: "88px",
    number: true,
    live: true,
    text: (h) => (h.alerts ? `${h.alerts} ${h.worst ?? ""}` : "–"),
    order: (h) => (h.alerts ? ["information", "warning", "critical"].indexOf(h.worst ?? "") * 100 + h.alerts : -1),
  },
  { id: "customer", title: "Customer", width: "minmax(190px, 1fr)", text: (h) => customerOf(h.groupPath) },
  { id: "group", title: "Group", width: "minmax(180px, 1.4fr)", text: (h) => readable(h.groupPath) },
  { id: "tags", title: "Tags", width: "minmax(110px, 1fr)", text: (h) => h.tags.join(", ") },
  { id: "address", title: "Address", width: "minmax(130px, 0.8fr)", text: (h) => h.address ?? "–" },
  { id: "os", title: "System", width: "minmax(160px, 1.2fr)", text: (h) => h.os ?? "–" },
  { id: "kernel", title: "Kernel", width: "minmax(130px, 1fr)", text: (h) => h.kernel ?? "–" },
  { id: "model", title: "Model", width: "minmax(110px, 0.8fr)", text: (h) => h.model ?? "–" },
  { id: "agent", title: "Agent", width: "80px", text: (h) => h.agentVersion },
  {
    id: "up",
    title: "Up for",
    width: "100px",
    number: true,
    live: true,
    text: (h) => (h.uptimeSeconds == null ? "–" : span(h.uptimeSeconds * 1000)),
    order: (h) => h.uptimeSeconds ?? -1,
  },
  {
    id: "seen",
    title: "Last seen",
    width: "110px",
    number: true,
    live: true,
    text: (h, now) => (h.presence.state === "linked" ? "now" : since(h.lastSeenAt, now)),
    order: (h) => (h.presence.state === "linked" ? 0 : -Date.parse(h.lastSeenAt)),
  },
  {
    id: "enrolled",
    title: "Joined",
    width: "100px",
    number: true,
    text: (h, now) => since(h.enrolledAt, now),
    order: (h) => -Date.parse(h.enrolledAt),
  },
];

export const usualColumns = ["presence", "users", "processor", "memory", "storage"];

export const columnOf = (id: string) => columns.find((c) => c.id === id);

/** The columns that a list of ids names, unknown ones left out. */
export const columnsOf = (ids: string[]) => ids.map(columnOf).filter((c) => c !== undefined);
