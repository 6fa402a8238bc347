import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo } from "react";
import { api, ask } from "../api/client";

export interface OwnMark {
  pinned: boolean;
  colour?: string | null;
  openedAt?: string | null;
}

/** What the technician keeps of hosts for himself: pins, colours, when he opened them. */
export function useMarks(): ReadonlyMap<string, OwnMark> {
  const marks = useQuery({
    queryKey: ["marks"],
    queryFn: async () => (await ask(api.GET("/api/v1/marks"))).items,
    staleTime: 30_000,
  });
  return useMemo(() => new Map(marks.data?.map((m) => [m.hostId, m.mark as OwnMark])), [marks.data]);
}

export function useSetMark(hostId: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (wish: { pinned?: boolean; colour?: string }) =>
      ask(api.PUT("/api/v1/hosts/{id}/mark", { params: { path: { id: hostId }, query: wish } })),
    onSuccess: () =>
      Promise.all([
        queries.invalidateQueries({ queryKey: ["marks"] }),
        queries.invalidateQueries({ queryKey: ["host", hostId] }),
      ]),
  });
}
