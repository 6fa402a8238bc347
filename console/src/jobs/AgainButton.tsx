import { Button } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { useMe } from "../access/useMay";
import { api, ask } from "../api/client";
import type { JobInfo } from "../api/types";
import { Trouble } from "../parts/Trouble";

/**
 * The same command again, on the hosts of some of its runs (of those in trouble when none are named); shows the new job. Where
 * hosts refused it, perhaps for want of their key, it can be proven from the vault.
 */
export function AgainButton({
  job,
  runs,
  label,
  refused,
}: {
  job: JobInfo;
  runs: string[] | null;
  label: string;
  refused: boolean;
}) {
  const navigate = useNavigate();
  const mayUse = useMe()?.anywhere.includes("use-secrets") ?? false;
  const again = useMutation({
    mutationFn: (usesVault: boolean) =>
      ask(
        api.POST("/api/v1/jobs/{id}/again", {
          params: { path: { id: job.id } },
          body: { runs, expiresInSeconds: null, seals: null, usesVault },
          headers: { "Idempotency-Key": crypto.randomUUID() },
        }),
      ) as Promise<JobInfo>,
    onSuccess: (made) => void navigate(`/work/${made.id}`),
  });
  return (
    <>
      <Button size="compact-sm" variant="default" onClick={() => again.mutate(false)} loading={again.isPending}>
        {label}
      </Button>
      {refused && mayUse && (
        <Button size="compact-sm" variant="default" onClick={() => again.mutate(true)} loading={again.isPending}>
          … with keys from the vault
        </Button>
      )}
      <Trouble error={again.error} />
    </>
  );
}
