import { useQuery } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { GroupInfo } from "../api/types";
import { readable } from "./hostList";

const none: GroupInfo[] = [];

/** The tree of customers and groups, by path. */
export function useGroups() {
  const query = useQuery({
    queryKey: ["groups"],
    queryFn: async () => (await ask(api.GET("/api/v1/groups"))).items,
    refetchInterval: 30_000,
  });
  return { groups: query.data ?? none, known: query.data !== undefined, error: query.error };
}

/** Groups as a field offers them. */
export const groupChoices = (groups: GroupInfo[]) => groups.map((g) => ({ value: g.path, label: readable(g.path) }));
