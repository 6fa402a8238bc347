import { useSyncExternalStore } from "react";
import { useSearchParams } from "react-router";
import { estateStore } from "./estateStore";

export const useEstate = () => useSyncExternalStore(estateStore.subscribe, estateStore.get);

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
