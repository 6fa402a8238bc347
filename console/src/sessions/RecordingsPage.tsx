import { Button, TextInput } from "@mantine/core";
import { useInfiniteQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import type { RecordingInfo } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { readable } from "../estate/hostList";
import { useScope } from "../estate/useEstate";
import { Ago } from "../parts/Ago";
import { bytes, span } from "../parts/time";
import { Empty, Trouble } from "../parts/Trouble";
import { RecordedWhat } from "./RecordedWhat";
import { SessionsTabs } from "./SessionsTabs";

/** Recorded shells and desktops: one's own, and all of places that one administers. */
export function RecordingsPage() {
  const [scope] = useScope();
  const [who, setWho] = useState("");
  const technician = useDeferredValue(who.trim());
  const found = useInfiniteQuery({
    queryKey: ["recordings", technician],
    queryFn: async ({ pageParam }) => {
      const query = { limit: 100, ...(technician && { technician }), ...(pageParam && { cursor: pageParam }) };
      return (await ask(api.GET("/api/v1/recordings", { params: { query } }))) as {
        items: RecordingInfo[];
        next?: string | null;
      };
    },
    initialPageParam: "",
    getNextPageParam: (page) => page.next ?? undefined,
    refetchInterval: 10_000,
  });
  const shown = found.data?.pages
    .flatMap((p) => p.items)
    .filter((r) => !scope || r.groupPath === scope || r.groupPath.startsWith(`${scope}/`));
  return (
    <main className="page">
      <div className="page-head">
        <h1>Recordings</h1>
        <SessionsTabs />
        <TextInput
          style={{ marginLeft: "auto" }}
          aria-label="Of technicians in whose name this stands"
          placeholder="Technician"
          value={who}
          onChange={(e) => setWho(e.currentTarget.value)}
        />
      </div>
      <Trouble error={found.error} />
      {shown &&
        (shown.length === 0 ? (
          <Empty title={technician ? "No such recording" : "Nothing is recorded"}>
            Shells and desktops are recorded where the <Link to="/rules/policies">host policy</Link> says so. You see
            your own, and all of places that you administer.
          </Empty>
        ) : (
          <div className="rows">
            {shown.map((r) => (
              <div key={r.id} className="row session-row">
                <span className="secret-place">
                  <Emblem customer={customerOf(r.groupPath)} />
                  <span className="host-name">
                    <Link to={`/hosts/${r.hostId}`}>{r.hostLabel}</Link>
                    <span>{readable(r.groupPath)}</span>
                  </span>
                </span>
                <span className="host-name">
                  <b>{r.technician}</b>
                  <RecordedWhat info={r} />
                </span>
                <span>
                  <Ago time={r.beganAt} />
                  <span className="muted">
                    {r.endedAt ? ` · ${span(Date.parse(r.endedAt) - Date.parse(r.beganAt))}` : " · goes on"}
                    {r.bytes !== null && r.bytes !== undefined && ` · ${bytes(r.bytes)}`}
                    {r.hasKeys && " · with keys"}
                  </span>
                </span>
                <span className="acts">
                  <Button
                    size="compact-sm"
                    variant="default"
                    component={Link}
                    to={`/sessions/recordings/${r.id}`}
                    aria-label={`Watch what ${r.technician} did on ${r.hostLabel}`}
                  >
                    Watch
                  </Button>
                </span>
              </div>
            ))}
          </div>
        ))}
      {found.hasNextPage && (
        <Button variant="default" loading={found.isFetchingNextPage} onClick={() => void found.fetchNextPage()}>
          Earlier ones
        </Button>
      )}
    </main>
  );
}
