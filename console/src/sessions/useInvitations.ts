import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { api, ask } from "../api/client";
import { follow } from "../api/live";
import type { Colleague, InvitationInfo, InvitationsNow } from "../api/types";

const all = ["invitations"];

/** Follows what colleagues ask of each other; whoever does counts as here. */
export function useFollowInvitations(): void {
  const queries = useQueryClient();
  useEffect(
    () =>
      follow<InvitationsNow>(
        "Invitations",
        [],
        (now) => queries.setQueryData(all, now.invitations),
        () => undefined,
      ),
    [queries],
  );
}

/** Invitations to the one who is signed in, and from him, that stand. */
export const useInvitations = (): InvitationInfo[] =>
  useQuery({
    queryKey: all,
    queryFn: async () => (await ask(api.GET("/api/v1/invitations"))).items as InvitationInfo[],
    staleTime: Infinity,
  }).data ?? [];

/** Who else may look at a host's desktop, asked anew while it is shown. */
export const useColleagues = (hostId: string, shown: boolean) =>
  useQuery({
    queryKey: ["colleagues", hostId],
    queryFn: async () =>
      (await ask(api.GET("/api/v1/hosts/{id}/colleagues", { params: { path: { id: hostId } } }))).items as Colleague[],
    enabled: shown,
    refetchInterval: 5_000,
  });

/** Something that is done about invitations; they are read again behind it. */
export function useInvitationAct<T, R>(act: (what: T) => Promise<R>) {
  const queries = useQueryClient();
  return useMutation({ mutationFn: act, onSettled: () => queries.invalidateQueries({ queryKey: all }) });
}

export const sendInvitation = (wish: { hostId: string; to: string; note: string; screen: string | undefined }) =>
  ask(
    api.POST("/api/v1/hosts/{id}/invitations", {
      params: { path: { id: wish.hostId } },
      body: { colleagueId: wish.to, note: wish.note.trim() || null, screen: wish.screen ?? null },
    }),
  );

export const withdrawInvitation = (id: string) =>
  ask(api.DELETE("/api/v1/invitations/{id}", { params: { path: { id } } }));

export const answerInvitation = ({ id, comes }: { id: string; comes: boolean }) =>
  ask(api.POST("/api/v1/invitations/{id}/answer", { params: { path: { id } }, body: { comes } }));
