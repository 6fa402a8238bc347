import { Button } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api, ask } from "../api/client";
import type { JobInfo, RunInfo } from "../api/types";
import { Trouble } from "../parts/Trouble";

const ways = [
  { way: "replace", label: "Replace them" },
  { way: "replace-older", label: "Replace where they are older" },
  { way: "rename", label: "Put the new ones beside" },
  { way: "keep", label: "Keep them" },
] as const;

/** Hosts on which files are in the way: they were left as they are until somebody says what becomes of those. */
export function InTheWay({ job, runs }: { job: JobInfo; runs: RunInfo[] }) {
  const navigate = useNavigate();
  const again = useMutation({
    mutationFn: (existing: (typeof ways)[number]["way"]) =>
      ask(
        api.POST("/api/v1/jobs/{id}/again", {
          params: { path: { id: job.id } },
          body: { runs: runs.map((r) => r.id), expiresInSeconds: null, seals: null, usesVault: false, existing },
          headers: { "Idempotency-Key": crypto.randomUUID() },
        }),
      ) as Promise<JobInfo>,
    onSuccess: (made) => void navigate(`/work/${made.id}`),
  });
  const where = runs.length === 1 ? `On ${runs[0]?.hostLabel}` : `On ${runs.length} hosts`;
  return (
    <section className="in-the-way" aria-label="Files in the way">
      <p>{where} files are in the way, and nothing was put there. What becomes of them?</p>
      <div className="parcel-acts">
        {ways.map(({ way, label }) => (
          <Button
            key={way}
            size="compact-sm"
            variant="default"
            loading={again.isPending && again.variables === way}
            onClick={() => again.mutate(way)}
          >
            {label}
          </Button>
        ))}
      </div>
      <Trouble error={again.error} />
    </section>
  );
}
