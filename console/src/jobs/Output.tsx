import { useLayoutEffect, useRef } from "react";
import type { RunInfo } from "../api/types";
import { useMay } from "../access/useMay";
import { WhyNot } from "../access/WhyNot";
import { Presence } from "../estate/Presence";
import { useEstate } from "../estate/useEstate";
import { bytes } from "../parts/time";
import type { OutputPart, RunOutput } from "./output";
import { isFinal, hasOutput, isTrouble, type JobNeeds, notKept, runWord } from "./words";

const none: readonly OutputPart[] = [];

/** A run's output; it stays at its end while new lines come, unless somebody has scrolled up to read. */
export function Output({ run, output, needs }: { run: RunInfo; output: RunOutput | undefined; needs: JobNeeds }) {
  const box = useRef<HTMLPreElement>(null);
  const atEnd = useRef(true);
  const parts = output?.parts ?? none;
  const may = useMay(run.groupPath);
  useLayoutEffect(() => {
    if (atEnd.current && box.current) box.current.scrollTop = box.current.scrollHeight;
  }, [parts]);
  // What a command put out can hold anything that is on the host: reading it takes as much as running it.
  if (!may(needs)) return <WhyNot permission={needs} at={{ host: run.hostId }} />;
  return (
    <>
      {output?.cut && <p className="muted">The beginning is not shown here; the download has all of it.</p>}
      <pre
        className="output"
        ref={box}
        tabIndex={0}
        aria-label={`Output of ${run.hostLabel}`}
        onScroll={(e) => {
          const el = e.currentTarget;
          atEnd.current = el.scrollHeight - el.scrollTop - el.clientHeight < 24;
        }}
      >
        {parts.length === 0 && <span className="nothing">{nothingWord(run)}</span>}
        {parts.map((part, i) => (
          <span key={i} className={part.stream}>
            {part.text}
          </span>
        ))}
      </pre>
    </>
  );
}

const nothingWord = (run: RunInfo) =>
  run.outputGone
    ? `What it printed is ${notKept}.`
    : isFinal(run.state)
      ? "It printed nothing."
      : "Nothing printed yet.";

/** How a run stands, in a word, with the reason and what is known of its host. */
export function RunStatus({ run, needs }: { run: RunInfo; needs: JobNeeds }) {
  const host = useEstate().hosts.get(run.hostId);
  const may = useMay(run.groupPath);
  return (
    <div>
      <span className={isTrouble(run.state) ? "run-state trouble" : "run-state"} role="status">
        {runWord(run)}
      </span>
      {run.user && <span className="muted"> as {run.user}</span>}
      {may(needs) && hasOutput(run) && (
        <span className="muted">
          {" "}
          ·{" "}
          <a href={`/api/v1/runs/${run.id}/output`} download>
            {bytes(run.stdoutBytes + run.stderrBytes)}, download
          </a>
        </span>
      )}
      {run.reason && <div className={isTrouble(run.state) ? "" : "muted"}>{run.reason}</div>}
      {run.state === "waiting" && host && (
        <div className="muted">
          It is sent when {run.hostLabel} returns: <Presence presence={host.presence} />
        </div>
      )}
    </div>
  );
}
