import { Button, Checkbox } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import type { EnrolmentDecision, EnrolmentInfo } from "../api/types";
import { inScope, readable } from "../estate/hostList";
import { Ago } from "../parts/Ago";
import { Trouble } from "../parts/Trouble";

/** Computers that joined and wait for a person, with what speaks for and against each. */
export function WaitingPanel({ scope }: { scope: string }) {
  const queries = useQueryClient();
  const [marked, setMarked] = useState<string[]>([]);
  const waiting = useQuery({
    queryKey: ["enrolments", "waiting"],
    queryFn: () => ask(api.GET("/api/v1/enrolments", { params: { query: { state: "waiting" } } })),
  });
  const decide = useMutation({
    mutationFn: (wish: { ids: string[]; decision: EnrolmentDecision }) =>
      ask(api.POST("/api/v1/enrolments/decide", { body: wish })),
    onSuccess: () => setMarked([]),
    onSettled: () => queries.invalidateQueries({ queryKey: ["enrolments"] }),
  });
  const items: EnrolmentInfo[] = (waiting.data?.items ?? []).filter((e) => inScope(e, scope));
  if (items.length === 0) return <Trouble error={waiting.error ?? decide.error} />;
  const chosen = items.filter((e) => marked.includes(e.id)).map((e) => e.id);
  const many = chosen.length > 0 ? chosen : items.map((e) => e.id);
  const which = chosen.length > 0 ? `${chosen.length} marked` : items.length === 1 ? "it" : `all ${items.length}`;
  return (
    <section aria-labelledby="waiting-title" style={{ marginBottom: 20 }}>
      <div className="page-head" style={{ marginBottom: 8 }}>
        <h2 id="waiting-title">
          {items.length === 1 ? "One computer waits to be let in" : `${items.length} computers wait to be let in`}
        </h2>
        <span style={{ flex: 1 }} />
        <Button
          size="compact-sm"
          variant="default"
          loading={decide.isPending}
          onClick={() => decide.mutate({ ids: many, decision: "approve" })}
        >
          Let {which} in
        </Button>
        <Button
          size="compact-sm"
          variant="default"
          loading={decide.isPending}
          onClick={() => decide.mutate({ ids: many, decision: "reject" })}
        >
          Turn {which} away
        </Button>
      </div>
      <Trouble error={waiting.error ?? decide.error} />
      <div className="rows">
        {items.map((e) => (
          <div className="row waiting-row" key={e.id}>
            <Checkbox
              aria-label={`Mark ${e.label}`}
              checked={marked.includes(e.id)}
              onChange={(c) => {
                const on = c.currentTarget.checked;
                setMarked((m) => (on ? [...m, e.id] : m.filter((id) => id !== e.id)));
              }}
            />
            <span className="host-name">
              <b>{e.label}</b>
              <span className="mono">{e.systemName}</span>
            </span>
            <span>
              {readable(e.groupPath)}
              <br />
              <span className="muted">
                from <span className="mono">{e.address ?? "nowhere"}</span>, <Ago time={e.at} />
              </span>
            </span>
            <span>
              {e.sameAs ? (
                <>
                  Looks like the machine of <Link to={`/hosts/${e.sameAs.hostId}`}>{e.sameAs.label}</Link> in{" "}
                  {readable(e.sameAs.groupPath)},{" "}
                  {e.sameAs.linked ? (
                    "which is linked"
                  ) : (
                    <>
                      last seen <Ago time={e.sameAs.lastSeenAt} />
                    </>
                  )}
                </>
              ) : (
                "The installer asks for approval"
              )}
            </span>
            <span className="acts">
              {e.sameAs && (
                <Button
                  size="compact-sm"
                  variant="default"
                  title={`It goes on under the entry ${e.sameAs.label}, with its history; the machine before it is cut off`}
                  onClick={() => decide.mutate({ ids: [e.id], decision: "take-over" })}
                >
                  Take over {e.sameAs.label}
                </Button>
              )}
              <Button
                size="compact-sm"
                variant="default"
                aria-label={`Let ${e.label} in`}
                onClick={() => decide.mutate({ ids: [e.id], decision: "approve" })}
              >
                {e.sameAs ? "Let in as new" : "Let in"}
              </Button>
              <Button
                size="compact-sm"
                variant="default"
                aria-label={`Turn ${e.label} away`}
                onClick={() => decide.mutate({ ids: [e.id], decision: "reject" })}
              >
                Turn away
              </Button>
            </span>
          </div>
        ))}
      </div>
    </section>
  );
}
