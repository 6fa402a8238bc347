import type { MetricLine, MetricSeries } from "../api/types";
import { csvOf } from "../parts/file";
import { bytes, span } from "../parts/time";

type Unit = MetricLine["unit"];

/** A figure with its unit. */
export function figure(value: number, unit: Unit, short = false): string {
  switch (unit) {
    case "percent":
      return short ? `${Math.round(value)}` : `${value < 10 ? value.toFixed(1) : Math.round(value)} %`;
    case "size":
      return bytes(value);
    case "time":
      return span(value * 1000);
    default:
      return value >= 100 || Number.isInteger(value) ? `${Math.round(value)}` : value.toFixed(value < 10 ? 2 : 1);
  }
}

export interface MetricChoice {
  name: string;
  title: string;
}

/** What graphs there are, in the order in which people look. */
export const metrics: MetricChoice[] = [
  { name: "processor", title: "Processor" },
  { name: "memory.used", title: "Memory in use" },
  { name: "storage.used", title: "Storage in use" },
  { name: "load", title: "Load" },
  { name: "processor.waiting", title: "Waiting for disks" },
  { name: "processor.stolen", title: "Stolen by the machine underneath" },
  { name: "swap.used", title: "Swap in use" },
  { name: "storage.inodes", title: "Inodes in use" },
  { name: "disk.read", title: "Read from disks, a second" },
  { name: "disk.written", title: "Written to disks, a second" },
  { name: "network.received", title: "Received, a second" },
  { name: "network.sent", title: "Sent, a second" },
  { name: "network.errors", title: "Network errors, a second" },
  { name: "temperature", title: "Temperature, °C" },
  { name: "processes", title: "Processes" },
];

export const metricTitle = (name: string) => metrics.find((m) => m.name === name)?.title ?? name;

/** A series as CSV (RFC 4180): one row a time, one column a line. */
export function seriesCsv(series: MetricSeries): string {
  const head = ["time", ...series.lines.map((l) => (l.part ? `${l.metric} ${l.part}` : l.metric))];
  const rows = series.at.map((at, i) => [
    new Date(at * 1000).toISOString(),
    ...series.lines.map((l) => (l.mean[i] == null ? "" : String(l.mean[i]))),
  ]);
  return csvOf([head, ...rows]);
}

const DAY = 86_400;
const clock = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit", hourCycle: "h23" });
const exactClock = new Intl.DateTimeFormat(undefined, {
  hour: "2-digit",
  minute: "2-digit",
  second: "2-digit",
  hourCycle: "h23",
});
const day = new Intl.DateTimeFormat(undefined, { day: "numeric", month: "short" });
const month = new Intl.DateTimeFormat(undefined, { month: "short", year: "numeric" });

/** Times (Unix, seconds) along an axis, as finely as they stand apart; where a day begins, its date. */
export function timeTicks(at: number[], stepSeconds: number): string[] {
  return at.map((seconds) => {
    const time = new Date(seconds * 1000);
    if (stepSeconds >= 28 * DAY) return month.format(time);
    if (stepSeconds >= DAY || (time.getHours() === 0 && time.getMinutes() === 0 && time.getSeconds() === 0))
      return day.format(time);
    return (stepSeconds < 60 ? exactClock : clock).format(time);
  });
}
