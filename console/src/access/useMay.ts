import { useQuery } from "@tanstack/react-query";
import { api, ask, ServiceProblem } from "../api/client";
import type { Me, Permission } from "../api/types";
import { useGroups } from "../estate/useGroups";

/** What the caller may do at a group; until that is known, everything is offered and the service says no itself. */
export function useMay(groupPath: string | undefined): (permission: Permission) => boolean {
  const { groups } = useGroups();
  const group = groups.find((g) => g.path === groupPath);
  return (permission) => !group?.may || group.may.includes(permission);
}

type Asked = { state: { data?: unknown; error: unknown } };

const inside = (query: Asked) => query.state.data !== undefined && !query.state.error;

/**
 * The question who is signed in, alike for everybody who asks: "nobody" is an answer, after which the door stands open and must
 * not be taken away from under somebody's typing by asking again.
 */
export const meQuery = {
  queryKey: ["me"],
  queryFn: () => ask(api.GET("/api/v1/me")),
  staleTime: 30_000,
  refetchOnWindowFocus: inside,
  refetchInterval: (query: Asked) => inside(query) && 30_000,
  retry: (count: number, e: Error) => !(e instanceof ServiceProblem && e.status === 401) && count < 30,
};

/** Who is signed in, and what he may do at one place at least, or everywhere. */
export function useMe(): Me | undefined {
  return useQuery(meQuery).data;
}
