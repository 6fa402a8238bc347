import { Button } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { useMay } from "../access/useMay";
import { Locked } from "../access/WhyNot";
import { api, ask } from "../api/client";
import type { RecordingInfo } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { readable } from "../estate/hostList";
import { saveBlob } from "../parts/file";
import { bytes, exact } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { Film } from "./Film";
import { RecordedWhat } from "./RecordedWhat";

/** Whose a recording is, and what can be done with it. */
export function RecordingSaid({ info, content }: { info: RecordingInfo; content: Blob | undefined }) {
  const may = useMay(info.groupPath);
  const go = useNavigate();
  const queries = useQueryClient();
  const [sure, setSure] = useState(false);
  const remove = useMutation({
    mutationFn: () => ask(api.DELETE("/api/v1/recordings/{id}", { params: { path: { id: info.id } } })),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["recordings"] });
      await go("/sessions/recordings");
    },
  });
  return (
    <>
      <p className="recording-said">
        <Emblem customer={customerOf(info.groupPath)} size={20} />
        <b>
          <Link to={`/hosts/${info.hostId}`}>{info.hostLabel}</Link>
        </b>
        <span className="muted">{readable(info.groupPath)}</span>
        <span>
          <b>{info.technician}</b>, {exact(info.beganAt)}
        </span>
        <RecordedWhat info={info} />
        <span className="acts">
          {content && (
            <Button
              size="compact-sm"
              variant="default"
              title={info.kind === "desktop" ? "RFB with times" : "asciicast v2"}
              onClick={() =>
                saveBlob(`${info.hostLabel}-${info.id}.${info.kind === "desktop" ? "screen" : "cast"}`, content)
              }
            >
              Save
            </Button>
          )}
          {info.kind === "desktop" && <Film info={info} />}
          {!may("administer") ? (
            <Locked permission="administer" at={{ host: info.hostId }}>
              Remove …
            </Locked>
          ) : (
            <Button
              size="compact-sm"
              variant="default"
              disabled={!info.endedAt}
              title={info.endedAt ? undefined : "It is still being written"}
              onClick={() => setSure(true)}
            >
              Remove …
            </Button>
          )}
        </span>
      </p>
      {sure && (
        <p role="alert" className="joined">
          What {info.technician} did on {info.hostLabel} of {customerOf(info.groupPath)} then is gone for good; the
          audit log says who removed it.{" "}
          <Button size="compact-sm" color="red" loading={remove.isPending} onClick={() => remove.mutate()}>
            Remove the recording
          </Button>{" "}
          <Button size="compact-sm" variant="default" onClick={() => setSure(false)}>
            Keep it
          </Button>
        </p>
      )}
      <Trouble error={remove.error} />
      <p className="muted recording-foot">
        {info.endedAt && info.bytes
          ? `${bytes(info.bytes)}, SHA-256 `
          : "It is still being written; this is what there is so far. "}
        {info.sha256 && <span className="mono">{info.sha256}</span>}
        {info.continues && " It begins in the middle of a shell to which its technician came back."}
        {info.kind === "desktop" &&
          !info.hasKeys &&
          " Where the pointer was is in it, and that something was typed; not what. Texts of clipboards are in none."}
      </p>
    </>
  );
}
