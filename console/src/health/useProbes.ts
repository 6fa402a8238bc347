import { useMutation, useQuery } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { Probe, ProbeOnHost, ProbeTrialLine } from "../api/types";

/** Where the checks with probes stand on one host. */
export const useHostProbes = (hostId: string) =>
  useQuery({
    queryKey: ["probes", "host", hostId],
    queryFn: async () =>
      (await ask(api.GET("/api/v1/hosts/{id}/probes", { params: { path: { id: hostId } } }))).items as ProbeOnHost[],
    refetchInterval: 10_000,
  });

/** Where one check stands on its hosts. */
export const useProbedHosts = (check: string) =>
  useQuery({
    queryKey: ["probes", "check", check],
    queryFn: async () =>
      (await ask(api.GET("/api/v1/checks/{key}/hosts", { params: { path: { key: check } } }))).items as ProbeOnHost[],
    refetchInterval: 10_000,
  });

/** Has hosts look once. */
export const useLook = () =>
  useMutation({
    mutationFn: async (wish: { probe: Probe; on: string; when: string }) =>
      (await ask(api.POST("/api/v1/checks/probe-trial", { body: wish }))).items as ProbeTrialLine[],
  });
