import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { HostPolicyPart, PolicyInfo, PolicyPlace } from "../api/types";

/** Where a policy is said: a host, a group, or everything. */
export type PolicyAt = { host: string } | { group: string } | "everything";

export function usePolicy(at: PolicyAt) {
  return useQuery({
    queryKey: ["policy", at],
    queryFn: () =>
      (at === "everything"
        ? ask(api.GET("/api/v1/policy"))
        : "host" in at
          ? ask(api.GET("/api/v1/hosts/{id}/policy", { params: { path: { id: at.host } } }))
          : ask(api.GET("/api/v1/groups/{id}/policy", { params: { path: { id: at.group } } }))) as Promise<PolicyInfo>,
    refetchInterval: 15_000,
  });
}

export function usePolicies() {
  return useQuery({
    queryKey: ["policies"],
    queryFn: async () => (await ask(api.GET("/api/v1/policies"))).items as PolicyPlace[],
    refetchInterval: 30_000,
  });
}

export function useSayPolicy(at: PolicyAt, version: number, onDone: () => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: HostPolicyPart) => {
      const headers = { "If-Match": `"${version}"` };
      return at === "everything"
        ? ask(api.PUT("/api/v1/policy", { headers, body }))
        : "host" in at
          ? ask(api.PUT("/api/v1/hosts/{id}/policy", { params: { path: { id: at.host } }, headers, body }))
          : ask(api.PUT("/api/v1/groups/{id}/policy", { params: { path: { id: at.group } }, headers, body }));
    },
    onSuccess: async () => {
      await Promise.all(["policy", "policies", "access"].map((key) => queries.invalidateQueries({ queryKey: [key] })));
      onDone();
    },
  });
}
