import { useMemo, useSyncExternalStore } from "react";
import { useSearchParams } from "react-router";
import type { HostSummary } from "../api/types";
import { estateStore } from "./estateStore";
import { hostsAt, readable } from "./hostList";

export const useEstate = () => useSyncExternalStore(estateStore.subscribe, estateStore.get);

/** How the line to the service stands, for those who need nothing else and are not to be drawn anew for each change. */
export const useLine = () => useSyncExternalStore(estateStore.subscribe, lineNow);
const lineNow = () => estateStore.get().line;

/** All hosts by their names; another list only when they came or went, are called, placed or tagged otherwise, or linked where they were not. */
export function useHostsByName(): HostSummary[] {
  const { hosts, byName, shape, standing } = useEstate();
  // The map is changed in place; these numbers say when.
  // eslint-disable-next-line react-hooks/exhaustive-deps
  return useMemo(() => hostsAt(hosts, byName), [hosts, byName, shape, standing]);
}

/** All hosts, for a field in which one is chosen. */
export function useHostOptions(): { value: string; label: string }[] {
  const hosts = useHostsByName();
  return useMemo(() => hosts.map((h) => ({ value: h.id, label: `${h.label} of ${readable(h.groupPath)}` })), [hosts]);
}

/** Leads to a page with the scope that is in view. */
export function useScoped(): (path: string) => string {
  const [scope] = useScope();
  return (path) => (scope ? `${path}${path.includes("?") ? "&" : "?"}scope=${encodeURIComponent(scope)}` : path);
}

/** The customer or group that every page is narrowed to; it stays in the address while moving between pages. */
export function useScope(): [string, (scope: string) => void] {
  const [params, setParams] = useSearchParams();
  return [
    params.get("scope") ?? "",
    (scope) =>
      setParams((before) => {
        const next = new URLSearchParams(before);
        if (scope) next.set("scope", scope);
        else next.delete("scope");
        return next;
      }),
  ];
}
