import { Button } from "@mantine/core";
import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import type { TimelineEntry } from "../api/types";
import { Ago } from "../parts/Ago";
import { Trouble } from "../parts/Trouble";

const words: Record<TimelineEntry["kind"], string> = {
  joined: "joined",
  moved: "moved",
  labelled: "labelled",
  noted: "notes",
  tagged: "tags",
  retired: "retired",
  restored: "restored",
  merged: "put together",
  ran: "job",
  updated: "agent updated",
  alerted: "alert",
  checked: "check",
};

/** What happened to a host, newest first. */
export function TimelinePanel({ hostId, label }: { hostId: string; label: string }) {
  const lines = useInfiniteQuery({
    queryKey: ["timeline", hostId],
    initialPageParam: undefined as string | undefined,
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/api/v1/hosts/{id}/timeline", {
          params: { path: { id: hostId }, query: pageParam ? { cursor: pageParam, limit: 30 } : { limit: 30 } },
        }),
      ),
    getNextPageParam: (page) => page.nextCursor ?? undefined,
    refetchInterval: 15_000,
  });
  const all = lines.data?.pages.flatMap((p) => p.items as TimelineEntry[]) ?? [];
  return (
    <section className="panel" aria-labelledby="timeline-title">
      <header>
        <h2 id="timeline-title">What happened to {label}</h2>
      </header>
      <Trouble error={lines.error} />
      {lines.data && all.length === 0 && <p className="muted">Nothing has happened yet.</p>}
      <ol className="timeline">
        {all.map((e, i) => (
          <li key={`${e.at} ${i}`}>
            <span className="muted">
              <Ago time={e.at} />
            </span>
            <span>
              <b>{words[e.kind]}</b>{" "}
              {e.jobId ? (
                <Link className="mono" to={`/work/${e.jobId}`}>
                  {e.text}
                </Link>
              ) : (
                e.text
              )}
              {e.by && <span className="muted"> by {e.by}</span>}
            </span>
          </li>
        ))}
      </ol>
      {lines.hasNextPage && (
        <Button
          size="compact-sm"
          variant="subtle"
          color="gray"
          onClick={() => void lines.fetchNextPage()}
          loading={lines.isFetchingNextPage}
        >
          Earlier
        </Button>
      )}
    </section>
  );
}
