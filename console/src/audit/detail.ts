import { exact } from "../parts/time";

const TIME = /^\d{4}-\d\d-\d\dT\d\d:\d\d:/;
const UUID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i;

/** Name and value pairs of a line, as people read them; ids are for machines. */
export function detailWords(detail: string): string {
  try {
    const pairs = JSON.parse(detail) as unknown;
    if (typeof pairs !== "object" || pairs === null) return detail;
    return Object.entries(pairs)
      .filter(([, value]) => !UUID.test(String(value)))
      .map(([name, value]) => `${name} ${TIME.test(String(value)) ? exact(String(value)) : String(value)}`)
      .join(", ");
  } catch {
    return detail;
  }
}

export interface AuditNarrowing {
  action: string;
  actor: string;
  target: string;
  /** A day, as "2026-11-23"; empty narrows nothing. */
  from: string;
  /** The last day. */
  to: string;
}

/** What the API is asked, from what stands in the form: whole days of the reader's clock. */
export function auditQuery(n: AuditNarrowing) {
  const day = (text: string, after: number) => {
    const [year, month, date] = text.split("-").map(Number);
    return year && month && date ? new Date(year, month - 1, date + after).toISOString() : undefined;
  };
  return {
    action: n.action || undefined,
    actor: n.actor || undefined,
    target: n.target || undefined,
    from: day(n.from, 0),
    to: day(n.to, 1),
  };
}
