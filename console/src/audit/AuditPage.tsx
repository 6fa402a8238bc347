import { Button, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { PageNeeds } from "../access/PageNeeds";
import { PeopleTabs } from "../access/PeopleTabs";
import { api, ask } from "../api/client";
import type { AuditInfo } from "../api/types";
import { Empty, Trouble } from "../parts/Trouble";
import { exact } from "../parts/time";
import { auditQuery, detailWords, type AuditNarrowing } from "./detail";

const LINES = 100;
const fields = ["action", "actor", "target", "from", "to"] as const;

/** Who did what, from where: the newest first, narrowed by what stands in the address. */
export function AuditPage() {
  return (
    <PageNeeds permission="administer" everywhere title="Audit" tabs={<PeopleTabs />}>
      <AuditLog />
    </PageNeeds>
  );
}

function AuditLog() {
  const [params, setParams] = useSearchParams();
  const narrowing = Object.fromEntries(fields.map((f) => [f, params.get(f) ?? ""])) as unknown as AuditNarrowing;
  const [settled] = useDebouncedValue(JSON.stringify(narrowing), 250);
  const query = auditQuery(JSON.parse(settled) as AuditNarrowing);
  const lines = useInfiniteQuery({
    queryKey: ["audit", query],
    queryFn: ({ pageParam }) =>
      ask(api.GET("/api/v1/audit", { params: { query: { ...query, limit: LINES, before: pageParam } } })),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (page) => (page.nextCursor ? Number(page.nextCursor) : undefined),
    placeholderData: keepPreviousData,
  });
  const set = (name: string, value: string) =>
    setParams(
      (before) => {
        const next = new URLSearchParams(before);
        if (value) next.set(name, value);
        else next.delete(name);
        return next;
      },
      { replace: true },
    );
  const all: AuditInfo[] = (lines.data?.pages ?? []).flatMap((p) => p.items);
  const wanted = new URLSearchParams(
    Object.entries(query).flatMap(([name, value]) => (value === undefined ? [] : [[name, value]])),
  ).toString();

  return (
    <main className="page">
      <div className="page-head">
        <h1>Audit</h1>
        <PeopleTabs />
        <div className="counts" aria-live="polite">
          <span>
            <b>{lines.data?.pages[0]?.total ?? 0}</b> {wanted ? "found" : "lines"}
          </span>
        </div>
        <span style={{ flex: 1 }} />
        <Button component="a" variant="default" size="sm" href={`/api/v1/audit/export?format=csv&${wanted}`} download>
          Export as CSV
        </Button>
        <Button component="a" variant="default" size="sm" href={`/api/v1/audit/export?${wanted}`} download>
          Export as NDJSON
        </Button>
      </div>
      <div className="audit-tools" role="search" aria-label="Narrow the audit log">
        <TextInput
          label="What was done begins with"
          placeholder="sign-in.refuse, host, job …"
          value={narrowing.action}
          onChange={(e) => set("action", e.currentTarget.value)}
        />
        <TextInput
          label="Who did it"
          placeholder="part of a name"
          value={narrowing.actor}
          onChange={(e) => set("actor", e.currentTarget.value)}
        />
        <TextInput
          label="To what"
          placeholder="part of a name"
          value={narrowing.target}
          onChange={(e) => set("target", e.currentTarget.value)}
        />
        <TextInput
          label="From the day"
          type="date"
          value={narrowing.from}
          onChange={(e) => set("from", e.currentTarget.value)}
        />
        <TextInput
          label="To the day"
          type="date"
          value={narrowing.to}
          onChange={(e) => set("to", e.currentTarget.value)}
        />
      </div>
      <Trouble error={lines.error} />
      {lines.data && all.length === 0 && (
        <Empty title="No line is like that">Take something out of the fields above.</Empty>
      )}
      {all.length > 0 && (
        <div className="audit" role="table" aria-label="Audit log">
          <div className="audit-row row-head" role="row">
            {["No.", "When", "Who", "Did", "To", "More"].map((title) => (
              <span key={title} role="columnheader">
                {title}
              </span>
            ))}
          </div>
          {all.map((line) => (
            <div key={line.number} className="audit-row" role="row">
              <span role="cell" className="number muted">
                {line.number}
              </span>
              <span role="cell">
                <time dateTime={line.at}>{exact(line.at)}</time>
              </span>
              <span role="cell">
                {line.actor}
                {line.address && <span className="mono muted"> {line.address}</span>}
              </span>
              <span role="cell" className={line.action.endsWith(".refuse") ? "mono trouble" : "mono"}>
                {line.action}
              </span>
              <span role="cell">{line.target}</span>
              <span role="cell" className="muted">
                {detailWords(line.detail)}
              </span>
            </div>
          ))}
        </div>
      )}
      {lines.hasNextPage && (
        <Button variant="default" mt={12} loading={lines.isFetchingNextPage} onClick={() => void lines.fetchNextPage()}>
          Show earlier lines
        </Button>
      )}
      <p className="muted">
        Each line holds a hash over itself and the line before. <code>umbrek audit verify</code> checks them all on your
        own machine and remembers the last one it saw.
      </p>
    </main>
  );
}
