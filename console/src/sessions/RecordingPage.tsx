import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { api, ask } from "../api/client";
import type { RecordingInfo } from "../api/types";
import { ScreenShow } from "../desktop/ScreenShow";
import { bytes } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { type Cast, readCast } from "../shell/cast";
import { CastShow } from "../shell/CastShow";
import { gather } from "./gather";
import { RecordingSaid } from "./RecordingSaid";
import { SessionsTabs } from "./SessionsTabs";

/** One recorded shell or desktop, shown as it went. */
export function RecordingPage() {
  const { id = "" } = useParams();
  const [got, setGot] = useState(0);
  const info = useQuery({
    queryKey: ["recording", id],
    queryFn: async () => (await ask(api.GET("/api/v1/recordings/{id}", { params: { path: { id } } }))) as RecordingInfo,
  });
  const r = info.data;
  const content = useQuery({
    queryKey: ["recording", id, "content"],
    enabled: r !== undefined,
    // Whoever reads it is in the audit log: once for each time that the page is opened.
    staleTime: Infinity,
    gcTime: 0,
    queryFn: async ({ signal }) => {
      const stream = await ask(
        api.GET("/api/v1/recordings/{id}/content", { params: { path: { id } }, parseAs: "stream", signal }),
      );
      const blob = await gather(stream as unknown as ReadableStream<Uint8Array<ArrayBuffer>>, setGot);
      return r?.kind === "desktop" ? { blob } : { blob, ...tryRead(await blob.text()) };
    },
  });
  const read = content.data;
  return (
    <main className="page">
      <div className="page-head">
        <h1>Recording</h1>
        <SessionsTabs />
      </div>
      <Trouble error={info.error ?? content.error ?? (read && "problem" in read ? read.problem : undefined)} />
      {r && <RecordingSaid info={r} content={read?.blob} />}
      {r && read && "cast" in read && read.cast && <CastShow key={id} info={r} cast={read.cast} />}
      {r?.kind === "desktop" && read && <ScreenShow key={id} info={r} blob={read.blob} />}
      {content.isPending && !content.error && !info.error && (
        <p className="muted">
          Fetching what was recorded … {got > 0 && `${bytes(got)}${r?.bytes ? ` of ${bytes(r.bytes)}` : ""}`}
        </p>
      )}
    </main>
  );
}

function tryRead(text: string): { cast?: Cast; problem?: unknown } {
  try {
    return { cast: readCast(text) };
  } catch (problem) {
    return { problem };
  }
}
