import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { MaintenanceInfo } from "../api/types";

/** @param host Only windows that hold for this host. */
export const useMaintenance = (host?: string) =>
  useQuery({
    queryKey: ["maintenance", host],
    queryFn: async () =>
      (await ask(api.GET("/api/v1/maintenance", { params: { query: { host } } }))).items as MaintenanceInfo[],
    refetchInterval: 30_000,
  });

export interface MaintenanceWish {
  name: string;
  groupId: string | null;
  hostId: string | null;
  on: string | null;
  /** In local time of the zone; null is now. */
  starts: string | null;
  zone: string;
  minutes: number;
  rule: string | null;
  note: string | null;
}

function useChange<T>(change: (wish: T) => Promise<unknown>, onDone?: () => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: change,
    ...(onDone && { onSuccess: onDone }),
    onSettled: () =>
      Promise.all([
        queries.invalidateQueries({ queryKey: ["maintenance"] }),
        queries.invalidateQueries({ queryKey: ["alerts"] }),
      ]),
  });
}

export const useKeepMaintenance = (before: MaintenanceInfo | undefined, onDone: () => void) =>
  useChange(
    (body: MaintenanceWish) =>
      before
        ? ask(
            api.PUT("/api/v1/maintenance/{id}", {
              params: { path: { id: before.id } },
              headers: { "If-Match": `"${before.version}"` },
              body,
            }),
          )
        : ask(api.POST("/api/v1/maintenance", { body })),
    onDone,
  );

export const useEndMaintenance = () =>
  useChange((id: string) => ask(api.POST("/api/v1/maintenance/{id}/end", { params: { path: { id } } })));

export const useRemoveMaintenance = (onDone: () => void) =>
  useChange((id: string) => ask(api.DELETE("/api/v1/maintenance/{id}", { params: { path: { id } } })), onDone);
