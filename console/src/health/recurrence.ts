/** Rules that people choose from; any other of RFC 5545 can be typed. */
export const recurrences = [
  { value: "", label: "once" },
  { value: "FREQ=DAILY", label: "every day" },
  { value: "FREQ=WEEKLY", label: "every week" },
  { value: "FREQ=WEEKLY;INTERVAL=2", label: "every second week" },
  { value: "FREQ=MONTHLY", label: "every month, on this day" },
];

const days: Record<string, string> = {
  MO: "Monday",
  TU: "Tuesday",
  WE: "Wednesday",
  TH: "Thursday",
  FR: "Friday",
  SA: "Saturday",
  SU: "Sunday",
};

/** A recurrence rule in words where it is one of the usual, else as it is. */
export function recurrenceWords(rule: string | null | undefined): string {
  const usual = recurrences.find((r) => r.value === (rule ?? ""));
  if (usual) return usual.label;
  const weekly = /^FREQ=WEEKLY;BYDAY=([A-Z,]+)$/.exec(rule ?? "");
  const named = weekly?.[1]?.split(",").map((d) => days[d]);
  return named && named.every(Boolean) ? `every ${named.join(" and ")}` : (rule ?? "");
}

/** Minutes since the beginning of a window as people say them: "45 min", "3 h", "2 d 6 h". */
export function lasting(minutes: number): string {
  const [d, h, m] = [Math.floor(minutes / 1440), Math.floor((minutes % 1440) / 60), minutes % 60];
  return [d && `${d} d`, h && `${h} h`, m && `${m} min`].filter(Boolean).join(" ");
}
