import { Button, SegmentedControl } from "@mantine/core";
import { useQuery, useQueryClient, useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { useMe } from "../access/useMay";
import { api, ask } from "../api/client";
import type { SessionInfo } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { readable } from "../estate/hostList";
import { useScope } from "../estate/useEstate";
import { useGroups } from "../estate/useGroups";
import { Ago } from "../parts/Ago";
import { Empty, Trouble } from "../parts/Trouble";
import { endSession } from "./hostDoor";
import { SessionsTabs } from "./SessionsTabs";

/** Who is connected to which host, and who was. */
export function SessionsPage() {
  const me = useMe();
  const [scope] = useScope();
  const { groups } = useGroups();
  const [which, setWhich] = useState<"open" | "all">("all");
  const queries = useQueryClient();
  const found = useQuery({
    queryKey: ["sessions", which],
    queryFn: async () =>
      (await ask(api.GET("/api/v1/sessions", { params: { query: { live: which === "open" } } })))
        .items as SessionInfo[],
    refetchInterval: 5_000,
  });
  const end = useMutation({
    mutationFn: endSession,
    onSettled: () => queries.invalidateQueries({ queryKey: ["sessions"] }),
  });
  const shown = found.data?.filter((s) => !scope || s.groupPath === scope || s.groupPath.startsWith(`${scope}/`));
  const mayEnd = (s: SessionInfo) =>
    s.technicianId === me?.id || (groups.find((g) => g.path === s.groupPath)?.may.includes("administer") ?? false);
  return (
    <main className="page">
      <div className="page-head">
        <h1>Sessions</h1>
        <SessionsTabs />
        <SegmentedControl
          style={{ marginLeft: "auto" }}
          aria-label="Which sessions"
          value={which}
          onChange={(v) => setWhich(v as "open" | "all")}
          data={[
            { value: "all", label: "All" },
            { value: "open", label: "Open now" },
          ]}
        />
      </div>
      <Trouble error={found.error ?? end.error} />
      {shown &&
        (shown.length === 0 ? (
          <Empty title={which === "open" ? "Nobody is connected to a host" : "No session yet"}>
            A session begins when somebody opens a shell on a host or proves its access key, and ends when he leaves,
            when nothing happens for half an hour, or at once when he may do nothing there any more.
          </Empty>
        ) : (
          <div className="rows">
            {shown.map((s) => (
              <div key={s.id} className="row session-row">
                <span className="secret-place">
                  <Emblem customer={customerOf(s.groupPath)} />
                  <span className="host-name">
                    <Link to={`/hosts/${s.hostId}`}>{s.hostLabel}</Link>
                    <span>{readable(s.groupPath)}</span>
                  </span>
                </span>
                <span className="host-name">
                  <b>{s.technician}</b>
                  <span>
                    {s.address && <span className="mono">{s.address}</span>}
                    {s.address && s.reason && " · "}
                    {s.reason}
                  </span>
                </span>
                <span>
                  <Ago time={s.openedAt} />
                  <span className="muted"> {s.endedAt ? `· ${s.endReason ?? "ended"}` : "· goes on"}</span>
                </span>
                <span className="acts">
                  {!s.endedAt && mayEnd(s) && (
                    <Button
                      size="compact-sm"
                      variant="default"
                      aria-label={`End the session of ${s.technician} on ${s.hostLabel}`}
                      loading={end.isPending && end.variables === s.id}
                      onClick={() => end.mutate(s.id)}
                    >
                      End it
                    </Button>
                  )}
                </span>
              </div>
            ))}
          </div>
        ))}
    </main>
  );
}
