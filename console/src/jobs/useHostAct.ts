import { useMutation } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { HostAction, HostSummary, JobInfo } from "../api/types";
import { selectionOf } from "../estate/hostList";
import type { Proof } from "../sessions/useProof";

/** How long an act waits for its host: what was seen a minute ago may be otherwise. */
const EXPIRES_IN_SECONDS = 60;

/** Has one host's agent do something, as a job. */
export function useHostAct(
  host: HostSummary,
  { door, usesVault }: Proof,
  onDone?: (job: JobInfo, action: HostAction) => void,
) {
  return useMutation({
    mutationFn: async (action: HostAction) => {
      const command = { action };
      return (await ask(
        api.POST("/api/v1/jobs", {
          body: {
            selection: selectionOf(host),
            command: command as never,
            expiresInSeconds: EXPIRES_IN_SECONDS,
            seals: door ? [await door.seal(command, action.power ? "power" : "run")] : null,
            usesVault,
          },
          headers: { "Idempotency-Key": crypto.randomUUID() },
        }),
      )) as JobInfo;
    },
    onSuccess: onDone,
  });
}
