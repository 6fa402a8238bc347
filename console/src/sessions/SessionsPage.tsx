import { SegmentedControl, TextInput } from "@mantine/core";
import { useQuery, useQueryClient, useMutation } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { useMe } from "../access/useMay";
import { api, ask } from "../api/client";
import type { SessionInfo } from "../api/types";
import { useScope } from "../estate/useEstate";
import { useGroups } from "../estate/useGroups";
import { Empty, Trouble } from "../parts/Trouble";
import { endSession } from "./hostDoor";
import { SessionRow } from "./SessionRow";
import { SessionsTabs } from "./SessionsTabs";

/** Who is connected to which host, and who was. */
export function SessionsPage() {
  const me = useMe();
  const [scope] = useScope();
  const { groups } = useGroups();
  const [which, setWhich] = useState<"open" | "all">("all");
  const [words, setWords] = useState("");
  const text = useDeferredValue(words.trim());
  const queries = useQueryClient();
  const found = useQuery({
    queryKey: ["sessions", which, text],
    queryFn: async () =>
      (await ask(api.GET("/api/v1/sessions", { params: { query: { live: which === "open", ...(text && { text }) } } })))
        .items as SessionInfo[],
    refetchInterval: 5_000,
  });
  const end = useMutation({
    mutationFn: endSession,
    onSettled: () => queries.invalidateQueries({ queryKey: ["sessions"] }),
  });
  const shown = found.data?.filter((s) => !scope || s.groupPath === scope || s.groupPath.startsWith(`${scope}/`));
  const mine = (s: SessionInfo) =>
    s.technicianId === me?.id || (groups.find((g) => g.path === s.groupPath)?.may.includes("administer") ?? false);
  return (
    <main className="page">
      <div className="page-head">
        <h1>Sessions</h1>
        <SessionsTabs />
        <TextInput
          style={{ marginLeft: "auto" }}
          aria-label="In whose note, reason or technician’s name this stands"
          placeholder="Note, reason or technician"
          value={words}
          onChange={(e) => setWords(e.currentTarget.value)}
        />
        <SegmentedControl
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
          <Empty
            title={text ? "No such session" : which === "open" ? "Nobody is connected to a host" : "No session yet"}
          >
            A session begins when somebody comes to a host: to its desktop, with a shell, to its files, or to prove its
            access key. It ends when he leaves, when nothing happens for half an hour, or at once when he may do nothing
            there any more.
          </Empty>
        ) : (
          <div className="rows">
            {shown.map((s) => (
              <SessionRow
                key={s.id}
                session={s}
                mine={mine(s)}
                ending={end.isPending && end.variables === s.id}
                onEnd={() => end.mutate(s.id)}
              />
            ))}
          </div>
        ))}
    </main>
  );
}
