import { Button, Textarea } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import type { SessionAct, SessionInfo } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { readable } from "../estate/hostList";
import { Ago } from "../parts/Ago";
import { exact } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { actWords } from "./acts";

/** One session in the list, with what somebody wrote about it and what was done in it. */
export function SessionRow({
  session: s,
  mine,
  ending,
  onEnd,
}: {
  session: SessionInfo;
  /** One's own, or at a place that one administers. */
  mine: boolean;
  ending: boolean;
  onEnd: () => void;
}) {
  const [open, setOpen] = useState<"acts" | "note">();
  const turn = (to: "acts" | "note") => setOpen(open === to ? undefined : to);
  return (
    <div className="row session-row has-acts">
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
        {mine && (
          <>
            <Button
              size="compact-sm"
              variant="default"
              aria-expanded={open === "acts"}
              aria-label={`What ${s.technician} did on ${s.hostLabel}`}
              onClick={() => turn("acts")}
            >
              Acts
            </Button>
            <Button
              size="compact-sm"
              variant="default"
              aria-expanded={open === "note"}
              aria-label={`Note about the session of ${s.technician} on ${s.hostLabel}`}
              onClick={() => turn("note")}
            >
              {s.note ? "Change the note" : "Note"}
            </Button>
          </>
        )}
        {!s.endedAt && mine && (
          <Button
            size="compact-sm"
            variant="default"
            aria-label={`End the session of ${s.technician} on ${s.hostLabel}`}
            loading={ending}
            onClick={onEnd}
          >
            End it
          </Button>
        )}
      </span>
      {s.note && open !== "note" && <p className="session-note">{s.note}</p>}
      {open === "note" && <NoteEditor session={s} onDone={() => setOpen(undefined)} />}
      {open === "acts" && <Acts session={s} />}
    </div>
  );
}

function NoteEditor({ session, onDone }: { session: SessionInfo; onDone: () => void }) {
  const queries = useQueryClient();
  const [text, setText] = useState(session.note ?? "");
  const keep = useMutation({
    mutationFn: () =>
      ask(
        api.PUT("/api/v1/sessions/{id}/note", {
          params: { path: { id: session.id } },
          body: { note: text.trim() || null },
        }),
      ),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["sessions"] });
      onDone();
    },
  });
  return (
    <div className="session-note">
      <Textarea
        autosize
        autoFocus
        minRows={2}
        maxLength={4000}
        aria-label={`What is to be known about this session on ${session.hostLabel}`}
        placeholder="What the next one should know"
        value={text}
        onChange={(e) => setText(e.currentTarget.value)}
      />
      <Trouble error={keep.error} />
      <Button size="compact-sm" loading={keep.isPending} onClick={() => keep.mutate()}>
        Keep the note
      </Button>{" "}
      <Button size="compact-sm" variant="default" onClick={onDone}>
        Leave it as it was
      </Button>
    </div>
  );
}

function Acts({ session }: { session: SessionInfo }) {
  const acts = useQuery({
    queryKey: ["session", session.id, "acts"],
    staleTime: 0,
    queryFn: async () =>
      (await ask(api.GET("/api/v1/sessions/{id}/acts", { params: { path: { id: session.id } } })))
        .items as SessionAct[],
  });
  return (
    <div className="session-note">
      <Trouble error={acts.error} />
      <ol className="session-acts">
        {acts.data?.map((a, i) => (
          <li key={i}>
            <span className="mono" title={exact(a.at)}>
              {new Date(a.at).toTimeString().slice(0, 8)}
            </span>{" "}
            {actWords(a)}
            {a.by !== session.technician && <span className="muted">, by {a.by}</span>}
          </li>
        ))}
      </ol>
    </div>
  );
}
