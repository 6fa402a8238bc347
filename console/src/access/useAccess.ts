import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { GrantInfo, RoleInfo, TeamInfo, TechnicianInfo } from "../api/types";

const nobody: TechnicianInfo[] = [];
const none: GrantInfo[] = [];

export function useTechnicians() {
  const query = useQuery({
    queryKey: ["technicians"],
    queryFn: async () => (await ask(api.GET("/api/v1/technicians"))).items,
  });
  return { technicians: query.data ?? nobody, error: query.error };
}

export function useTeams() {
  const query = useQuery({ queryKey: ["teams"], queryFn: async () => (await ask(api.GET("/api/v1/teams"))).items });
  return { teams: (query.data ?? []) as TeamInfo[], error: query.error };
}

export function useRoles() {
  const query = useQuery({ queryKey: ["roles"], queryFn: async () => (await ask(api.GET("/api/v1/roles"))).items });
  return { roles: (query.data ?? []) as RoleInfo[], error: query.error };
}

/** The caller's own grants, and those at places that he administers. */
export function useGrants() {
  const query = useQuery({
    queryKey: ["grants"],
    queryFn: async () => (await ask(api.GET("/api/v1/grants"))).items as GrantInfo[],
  });
  return { grants: query.data ?? none, error: query.error };
}

/** An act on technicians, teams, roles or grants; what pages show of them is read anew after it. */
export function useAccessAct<T>(act: (wish: T) => Promise<unknown>, onDone?: () => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: act,
    onSuccess: async () => {
      await Promise.all(
        ["technicians", "teams", "roles", "grants", "matrix", "me", "groups"].map((key) =>
          queries.invalidateQueries({ queryKey: [key] }),
        ),
      );
      onDone?.();
    },
  });
}
