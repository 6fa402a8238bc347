import type { DeliveryInfo, NewNotice, NoticeInfo, Severity } from "../api/types";
import { readable } from "../estate/hostList";
import { span } from "../parts/time";

const from: Record<Severity, string> = {
  critical: "critical alerts",
  warning: "warnings and worse",
  information: "all alerts",
};

/** Of what a notice tells. */
export function noticeOf(n: NoticeInfo): string {
  const parts = [
    from[n.atLeast],
    n.about && n.about.length > 0 && `about ${n.about.join(", ")}`,
    n.place && `in ${readable(n.place)}`,
    n.on && `on hosts with ${n.on}`,
  ];
  return parts.filter(Boolean).join(" ");
}

/** When it tells. */
export function noticeWhen(n: NoticeInfo): string {
  if (n.off) return "never: switched off";
  if (n.digestAt && n.digestAt.length > 0) return `a summary at ${n.digestAt.join(" and ")} (${n.zone})`;
  const when = n.afterSeconds > 0 ? `when nobody takes it up for ${span(n.afterSeconds * 1000)}` : "at once";
  return n.quiet ? `${when}; quiet ${n.quiet} (${n.zone})${n.criticalAlways ? ", but for critical" : ""}` : when;
}

/** Whom it tells. */
export const noticeTo = (n: NoticeInfo): string =>
  n.url ?? [n.team && `team ${n.team}`, ...n.addresses].filter(Boolean).join(", ");

export const noticeWish = (n: NoticeInfo): NewNotice => ({
  name: n.name,
  way: n.way,
  atLeast: n.atLeast,
  groupId: n.groupId ?? null,
  on: n.on ?? null,
  about: n.about ?? null,
  teamId: n.teamId ?? null,
  addresses: n.addresses,
  url: n.url ?? null,
  afterSeconds: n.afterSeconds,
  digestAt: n.digestAt ?? null,
  quiet: n.quiet ?? null,
  zone: n.zone,
  criticalAlways: n.criticalAlways,
  tellsEnd: n.tellsEnd,
  off: n.off,
});

export function deliveryWords(d: DeliveryInfo): string {
  if (d.state === "delivered") return "arrived";
  if (d.state === "failed") return "given up";
  return d.attempts === 0 ? "on its way" : `tried ${d.attempts} ${d.attempts === 1 ? "time" : "times"}`;
}
