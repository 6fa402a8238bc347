import { Button } from "@mantine/core";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import type { CommandSpec, HostSummary, JobInfo } from "../api/types";
import { type Dropped, droppedOf } from "../files/dropped";
import { type ParcelAt, sendParcel, Stopped } from "../files/parcels";
import { deliverOf, nowhere } from "../files/places";
import { SendingToService } from "../files/SendingToService";
import { selectionOf } from "../estate/hostList";
import { useJob } from "../jobs/useJob";
import { useProof } from "../sessions/useProof";

/**
 * Files that are dropped onto the screen of a host go to the desktop of whoever is logged in there; what is called so already stays
 * beside them. Where that may not be, it says why.
 */
export function DropOnto({ host, children }: { host: HostSummary; children: React.ReactNode }) {
  const { may, asksKey, fromVault } = useProof(host, "write-files");
  const [hovers, setHover] = useState(false);
  const [said, setSaid] = useState<string>();
  const [at, setAt] = useState<ParcelAt>();
  const [job, setJob] = useState<{ id: string; what: string }>();
  const stop = useRef<AbortController>(undefined);
  useEffect(() => () => stop.current?.abort(), []);
  const whyNot = !may("write-files")
    ? `You may not change files of ${host.label}, so nothing can be dropped there.`
    : asksKey && !fromVault
      ? `${host.label} asks for its access key before files are changed: send them from the panel Files of its page.`
      : undefined;

  const send = async (dropped: Dropped[]) => {
    const files = dropped.filter((d) => d.file);
    if (files.length === 0) return;
    const what = files.length === 1 ? (files[0]?.path.at(-1) ?? "") : `${String(files.length)} files`;
    setJob(undefined);
    setSaid(undefined);
    stop.current = new AbortController();
    try {
      const { digest, name, files: count, bytes } = await sendParcel(dropped, setAt, stop.current.signal);
      const deliver = deliverOf(
        { ...nowhere, place: "desktop", makesFolder: true, existing: "rename" },
        { digest: digest ?? "", name, files: count, bytes },
      );
      const made = (await ask(
        api.POST("/api/v1/jobs", {
          body: {
            selection: selectionOf(host),
            command: { action: { deliver } } as CommandSpec as never,
            seals: null,
            usesVault: asksKey,
          },
          headers: { "Idempotency-Key": crypto.randomUUID() },
        }),
      )) as JobInfo;
      setJob({ id: made.id, what });
    } catch (e) {
      setSaid(e instanceof Stopped ? undefined : e instanceof Error ? e.message : String(e));
    } finally {
      setAt(undefined);
    }
  };

  return (
    <div
      className={hovers ? "desktop-drop file-drop over" : "desktop-drop file-drop"}
      data-drop={whyNot ?? `Let go to put it on the desktop of whoever is logged in at ${host.label}`}
      onDragOver={(e) => {
        if (!e.dataTransfer.types.includes("Files")) return;
        e.preventDefault();
        e.dataTransfer.dropEffect = whyNot ? "none" : "copy";
        setHover(true);
      }}
      onDragLeave={(e) => {
        if (!e.currentTarget.contains(e.relatedTarget as Node | null)) setHover(false);
      }}
      onDrop={(e) => {
        e.preventDefault();
        setHover(false);
        if (whyNot) setSaid(whyNot);
        else void droppedOf(e.dataTransfer).then(send);
      }}
    >
      {at && <SendingToService at={at} onStop={() => stop.current?.abort()} />}
      {said && (
        <p className="desktop-word" role="alert">
          {said}
        </p>
      )}
      {job && (
        <p className="desktop-word" role="status">
          <Outcome id={job.id} what={job.what} host={host} />
          <Button size="compact-sm" variant="default" onClick={() => setJob(undefined)}>
            Put this word away
          </Button>
        </p>
      )}
      {children}
    </div>
  );
}

/** What has become of it. */
function Outcome({ id, what, host }: { id: string; what: string; host: HostSummary }) {
  const { runs, output, finished } = useJob(id);
  const [run] = [...runs.values()];
  const said =
    run &&
    output
      .get(run.id)
      ?.parts.map((p) => p.text)
      .join("")
      .trim();
  const why = run?.reason ?? said;
  const words = !finished
    ? `${what} is on its way to ${host.label}.`
    : run?.state === "succeeded"
      ? `${what} is on the desktop of whoever is logged in at ${host.label}.`
      : `${what} is not at ${host.label}${why ? `: ${why}` : "."}`;
  return (
    <span>
      {words} <Link to={`/work/${id}`}>The job</Link>
    </span>
  );
}
