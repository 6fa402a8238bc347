import type { RecordingInfo } from "../api/types";

/** What a recording is of, and whose that was on the host. */
export function RecordedWhat({ info }: { info: RecordingInfo }) {
  if (info.kind === "desktop")
    return (
      <span>
        {info.commandText}, {info.user ? <span className="mono">{info.user}</span> : "nobody"} logged in
      </span>
    );
  return (
    <span>
      <span className="mono">{info.commandText}</span>
      {info.continues && ", gone on with"}
      {info.user && (
        <>
          , as <span className="mono">{info.user}</span>
        </>
      )}
    </span>
  );
}
