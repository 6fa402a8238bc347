import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { NewReaction, ReactionInfo } from "../api/types";

export const useReactions = () =>
  useQuery({
    queryKey: ["reactions"],
    queryFn: async () => (await ask(api.GET("/api/v1/reactions"))).items as ReactionInfo[],
    refetchInterval: 30_000,
  });

function useChange<T>(change: (wish: T) => Promise<unknown>, onDone: () => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSuccess: onDone,
    onSettled: () => queries.invalidateQueries({ queryKey: ["reactions"] }),
  });
}

export const useKeepReaction = (before: ReactionInfo | undefined, onDone: () => void) =>
  useChange(
    (body: NewReaction) =>
      before
        ? ask(
            api.PUT("/api/v1/reactions/{id}", {
              params: { path: { id: before.id } },
              headers: { "If-Match": `"${before.version}"` },
              body: body as never,
            }),
          )
        : ask(api.POST("/api/v1/reactions", { body: body as never })),
    onDone,
  );

export const useRemoveReaction = (onDone: () => void) =>
  useChange((id: string) => ask(api.DELETE("/api/v1/reactions/{id}", { params: { path: { id } } })), onDone);

/** What says of a reaction all that can be changed. */
export const wishOf = (r: ReactionInfo): NewReaction => ({
  name: r.name,
  check: r.check,
  scriptId: r.scriptId,
  groupId: r.groupId ?? null,
  hostId: r.hostId ?? null,
  number: r.number ?? null,
  values: r.values,
  waitSeconds: r.waitSeconds,
  spacingSeconds: r.spacingSeconds,
  usesVault: r.usesVault,
  off: r.off,
});
