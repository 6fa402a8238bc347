import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import { follow } from "../api/live";
import type { JobInfo } from "../api/types";
import { useScoped } from "../estate/useEstate";
import { Ago } from "../parts/Ago";
import { Empty, Trouble } from "../parts/Trouble";
import { countWords } from "./words";
import { neutralise } from "./output";

interface Jobs {
  items: JobInfo[];
  total: number;
}

/** Puts a changed job in its place, or a new one on top. */
export function merge(jobs: Jobs, changed: JobInfo): Jobs {
  const at = jobs.items.findIndex((j) => j.id === changed.id);
  return at >= 0
    ? { ...jobs, items: jobs.items.with(at, changed) }
    : { total: jobs.total + 1, items: [changed, ...jobs.items] };
}

function useJobs(hostId: string | undefined) {
  const queries = useQueryClient();
  const key = ["jobs", hostId ?? "all"];
  const jobs = useQuery({
    queryKey: key,
    queryFn: async (): Promise<Jobs> => {
      const page = await ask(
        api.GET("/api/v1/jobs", { params: { query: { limit: hostId ? 10 : 100, host: hostId } } }),
      );
      return { items: page.items, total: page.total };
    },
  });
  useEffect(
    () =>
      follow<JobInfo>(
        "Jobs",
        [],
        (changed) => {
          // A job of another host is no news here; one that is listed already is.
          if (hostId) void queries.invalidateQueries({ queryKey: ["jobs", hostId] });
          else queries.setQueryData<Jobs>(["jobs", "all"], (before) => before && merge(before, changed));
        },
        (line) => {
          if (line === "live") void queries.invalidateQueries({ queryKey: ["jobs", hostId ?? "all"] });
        },
      ),
    [queries, hostId],
  );
  return jobs;
}

/** Jobs, newest first, live; of one host when it is named. */
export function JobList({ hostId }: { hostId?: string }) {
  const jobs = useJobs(hostId);
  const scoped = useScoped();
  if (jobs.error && !jobs.data) return <Trouble error={jobs.error} />;
  if (!jobs.data) return null;
  if (jobs.data.items.length === 0) {
    return (
      <Empty title={hostId ? "Nothing has been run here yet" : "No job yet"}>
        Open a host and run a command on it, or use umbrek run.
      </Empty>
    );
  }
  return (
    <div className="rows">
      <div className="row job-row row-head" aria-hidden="true">
        <span>Command</span>
        <span>On</span>
        <span>Made</span>
        <span>Runs</span>
      </div>
      {jobs.data.items.map((job) => (
        <Link key={job.id} className="row job-row" to={scoped(`/work/${job.id}`)}>
          <span className="mono">{neutralise(job.commandText)}</span>
          <span className="mono muted">{job.selection}</span>
          <span>
            <Ago time={job.createdAt} />
            <br />
            <span className="muted">{job.createdBy}</span>
          </span>
          <span
            className={
              job.runs.failed + job.runs.timedOut + job.runs.refused + job.runs.interrupted + job.runs.expired > 0
                ? "trouble"
                : ""
            }
          >
            {countWords(job.runs)}
          </span>
        </Link>
      ))}
    </div>
  );
}
