import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { KeyRotationDetail, KeyRotationInfo, SecretDetail, SecretInfo } from "../api/types";

/** Where secrets stand: at one host, at one group, or all that the caller may use or see. */
export type SecretsAt = { host: string } | { group: string } | "all";

const queryOf = (at: SecretsAt) => (at === "all" ? {} : "host" in at ? { host: at.host } : { group: at.group });

export function useSecrets(at: SecretsAt, enabled = true) {
  const found = useQuery({
    queryKey: ["secrets", at],
    queryFn: () => ask(api.GET("/api/v1/secrets", { params: { query: { ...queryOf(at), limit: 1000 } } })),
    refetchInterval: 30_000,
    enabled,
  });
  return {
    secrets: (found.data?.items ?? []) as SecretInfo[],
    total: found.data?.total ?? 0,
    error: found.error,
    known: found.data !== undefined,
  };
}

export function useSecret(id: string) {
  return useQuery({
    queryKey: ["secret", id],
    queryFn: () => ask(api.GET("/api/v1/secrets/{id}", { params: { path: { id } } })) as Promise<SecretDetail>,
  });
}

/** An act on secrets, after which all lists of them are asked anew. */
export function useSecretAct<T, A = void>(act: (argument: A) => Promise<T>, onDone?: (result: T) => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: act,
    onSuccess: async (result) => {
      await Promise.all(
        ["secrets", "secret", "vault", "rotations", "policy"].map((k) => queries.invalidateQueries({ queryKey: [k] })),
      );
      onDone?.(result);
    },
  });
}

export function useRotations(enabled: boolean) {
  return useQuery({
    queryKey: ["rotations"],
    queryFn: async () => (await ask(api.GET("/api/v1/key-rotations"))).items as KeyRotationInfo[],
    refetchInterval: (q) => (q.state.data?.some((r) => !r.isOver) ? 1500 : 15_000),
    enabled,
  });
}

export function useRotation(id: string) {
  return useQuery({
    queryKey: ["rotations", id],
    queryFn: () =>
      ask(api.GET("/api/v1/key-rotations/{id}", { params: { path: { id } } })) as Promise<KeyRotationDetail>,
    refetchInterval: (q) => (q.state.data?.info.isOver ? false : 1500),
  });
}
