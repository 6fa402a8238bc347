import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { ParameterKind, ScriptDetail, ScriptInfo, ScriptParameter, ScriptShare } from "../api/types";

export const kinds: { value: ParameterKind; label: string }[] = [
  { value: "text", label: "Text" },
  { value: "whole", label: "Whole number" },
  { value: "number", label: "Number" },
  { value: "yes-no", label: "Yes or no" },
  { value: "choice", label: "One of some words" },
  { value: "path", label: "Path on the host" },
  { value: "day", label: "Day" },
];

export const kindWord = (kind: ParameterKind) => kinds.find((k) => k.value === kind)?.label ?? kind;

export const isNumber = (kind: ParameterKind) => kind === "whole" || kind === "number";

/** What fits a parameter, in a few words. */
export function fits(p: ScriptParameter): string {
  const bounds =
    p.least != null && p.most != null
      ? ` from ${p.least} to ${p.most}`
      : p.least != null
        ? ` from ${p.least} up`
        : p.most != null
          ? ` up to ${p.most}`
          : "";
  return p.kind === "choice" ? `One of ${(p.choices ?? []).join(", ")}` : kindWord(p.kind) + bounds;
}

/** The first parameter that still needs a value, as a reason why nothing can be run yet. */
export function missingValue(parameters: ScriptParameter[], values: Record<string, string>): string | undefined {
  const p = parameters.find((p) => !p.optional && p.default == null && !values[p.name]);
  return p && `Say first what ${p.name} is`;
}

export function sharingWords(sharing: ScriptShare[]): string {
  if (sharing.length === 0) return "its owner alone";
  return sharing
    .map((s) => `${s.teamId == null ? "everybody" : s.team}${s.mayChange ? " (may change)" : ""}`)
    .join(", ");
}

export function useScripts(enabled = true) {
  const query = useQuery({
    queryKey: ["scripts"],
    queryFn: async () => (await ask(api.GET("/api/v1/scripts"))).items as ScriptInfo[],
    enabled,
  });
  return { scripts: query.data, error: query.error };
}

/** A script with one of its versions, the newest when no number is given. */
export function useScript(id: string | undefined, number?: number) {
  return useQuery({
    queryKey: ["scripts", id, number ?? "newest"],
    queryFn: () =>
      ask(
        api.GET("/api/v1/scripts/{id}", { params: { path: { id: id ?? "" }, query: { number } } }),
      ) as Promise<ScriptDetail>,
    enabled: !!id,
  });
}

/** An act on scripts; what pages show of them is read anew after it. */
export function useScriptAct<T, R>(act: (wish: T) => Promise<R>, onDone?: (made: R) => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: act,
    onSuccess: async (made) => {
      onDone?.(made);
      await queries.invalidateQueries({ queryKey: ["scripts"] });
    },
  });
}
