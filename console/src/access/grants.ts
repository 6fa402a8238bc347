import type { GrantInfo, MatrixGrant } from "../api/types";
import { readable } from "../estate/hostList";
import { minute } from "../parts/time";

/** Where a grant holds, as people say it. */
export const whereOf = (groupPath: string | null | undefined) => (groupPath ? readable(groupPath) : "everything");

/** A grant in words: "technician on Saltmarsh Ferry ▸ Quay, until …". */
export function grantWords(grant: Pick<GrantInfo, "role" | "groupPath" | "endsAt" | "ended">): string {
  const end = grant.endsAt ? `, ${grant.ended ? "ended" : "until"} ${minute(grant.endsAt)}` : "";
  return `${grant.role} on ${whereOf(grant.groupPath)}${end}`;
}

/** How a grant stands in the crossing of a technician and a customer: whole, or a part of it only. */
export function reachOf(grant: MatrixGrant, customer: string): "all" | "whole" | "part" {
  if (!grant.groupPath) return "all";
  return grant.groupPath.toLowerCase() === customer.toLowerCase() ? "whole" : "part";
}

/** The end of a day or minute that was picked in the browser's own time, for the service. */
export function endOf(picked: string): string | null {
  return picked ? new Date(picked).toISOString() : null;
}
