import { useSyncExternalStore } from "react";
import { useSearchParams } from "react-router";
import { estateStore } from "./estateStore";

export const useEstate = () => useSyncExternalStore(estateStore.subscribe, estateStore.get);

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
