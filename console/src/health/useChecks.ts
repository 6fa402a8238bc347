import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { CheckInfo, CheckTrialResult, Probe, Severity, Subsystem } from "../api/types";

export const useChecks = () =>
  useQuery({
    queryKey: ["checks"],
    queryFn: async () => (await ask(api.GET("/api/v1/checks"))).items as CheckInfo[],
    refetchInterval: 60_000,
  });

export interface Rule {
  when: string;
  until: string;
  holdSeconds: number;
}

export interface OwnCheck extends Rule {
  name: string;
  subsystem: Subsystem;
  severity: Severity;
  follows: string;
  fix: string;
  groupId: string | null;
  /** What the hosts' agents look at; null when it is about what is known anyway. */
  probe: Probe | null;
}

export interface Setting extends Rule {
  check: string;
  groupId: string | null;
  /** Null leaves it to what is said above. */
  off: boolean | null;
  severity: Severity | null;
  note: string;
  /** Its hold time counts without a rule of its own. */
  ownHold?: boolean;
  /** Says nothing there any more. */
  nothing?: boolean;
}

function useChange<T>(change: (wish: T) => Promise<unknown>, onDone: () => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSuccess: onDone,
    onSettled: () => queries.invalidateQueries({ queryKey: ["checks"] }),
  });
}

export const useKeepCheck = (check: CheckInfo | undefined, onDone: () => void) =>
  useChange((own: OwnCheck) => {
    const body = {
      ...own,
      until: own.probe ? null : own.until || null,
      follows: own.follows || null,
      fix: own.fix || null,
    };
    return check?.id
      ? ask(
          api.PUT("/api/v1/checks/{id}", {
            params: { path: { id: check.id } },
            headers: { "If-Match": `"${check.version}"` },
            body,
          }),
        )
      : ask(api.POST("/api/v1/checks", { body }));
  }, onDone);

export const useSayCheck = (onDone: () => void) =>
  useChange(
    (s: Setting) =>
      ask(
        api.POST("/api/v1/checks/settings", {
          body: s.nothing
            ? { check: s.check, groupId: s.groupId }
            : {
                check: s.check,
                groupId: s.groupId,
                off: s.off,
                severity: s.severity,
                when: s.when || null,
                until: s.when ? s.until || null : null,
                holdSeconds: s.when || s.ownHold ? s.holdSeconds : null,
                note: s.note || null,
              },
        }),
      ),
    onDone,
  );

export const useRemoveCheck = (onDone: () => void) =>
  useChange((id: string) => ask(api.DELETE("/api/v1/checks/{id}", { params: { path: { id } } })), onDone);

/** What a rule would have raised over the last two days. */
export const useTrial = () =>
  useMutation({
    mutationFn: async ({ on, ...rule }: Rule & { on?: string | undefined }) =>
      (await ask(
        api.POST("/api/v1/checks/trial", {
          body: { ...rule, until: rule.until || null, on: on ?? null, hours: 48 },
        }),
      )) as CheckTrialResult,
  });
