import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, ask } from "../api/client";
import { follow } from "../api/live";
import type {
  AlertActKind,
  AlertDetail,
  AlertInfo,
  AlertLine,
  AlertsChanged,
  AlertState,
  HealthOverview,
  Severity,
} from "../api/types";
import { quoted } from "../estate/hostList";

/** How many alerts ask for somebody; whatever lists them is read again whenever one changes. */
export function useAlertCount(): AlertsChanged | undefined {
  const queries = useQueryClient();
  const [count, setCount] = useState<AlertsChanged>();
  useEffect(
    () =>
      follow<AlertsChanged>(
        "Alerts",
        [],
        (now) => {
          setCount(now);
          void queries.invalidateQueries({ queryKey: ["alerts"] });
          void queries.invalidateQueries({ queryKey: ["overview"] });
          void queries.invalidateQueries({ queryKey: ["checks"] });
        },
        () => undefined,
      ),
    [queries],
  );
  return count;
}

export interface AlertFilter {
  on?: string | undefined;
  state?: AlertState | undefined;
  severity?: Severity | undefined;
  all?: boolean | undefined;
}

export const useAlerts = (filter: AlertFilter) =>
  useQuery({
    queryKey: ["alerts", filter],
    queryFn: async () =>
      (await ask(api.GET("/api/v1/alerts", { params: { query: { ...filter } } }))).items as AlertLine[],
    refetchInterval: 30_000,
    placeholderData: (before: AlertLine[] | undefined) => before,
  });

export const useAlert = (id: string) =>
  useQuery({
    queryKey: ["alerts", "one", id],
    queryFn: async () => (await ask(api.GET("/api/v1/alerts/{id}", { params: { path: { id } } }))) as AlertDetail,
    refetchInterval: 30_000,
  });

export const useOverview = (path: string) =>
  useQuery({
    queryKey: ["overview", path],
    queryFn: async () =>
      (await ask(api.GET("/api/v1/overview", { params: { query: path ? { path } : {} } }))) as HealthOverview,
    refetchInterval: 15_000,
    placeholderData: (before: HealthOverview | undefined) => before,
  });

export interface Decision {
  alerts: AlertInfo[];
  act: AlertActKind;
  until?: string;
  note?: string;
}

export function useAlertAct(onDone?: () => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (d: Decision) =>
      ask(
        api.POST("/api/v1/alerts/acts", {
          body: { ids: d.alerts.map((a) => a.id), act: d.act, until: d.until ?? null, note: d.note ?? null },
        }),
      ),
    onSuccess: onDone,
    onSettled: () => queries.invalidateQueries({ queryKey: ["alerts"] }),
  });
}

/** A scope as a selection, for what is asked of the service. */
export const scopeSelection = (scope: string): string | undefined => (scope ? `in ${quoted(scope)}` : undefined);
