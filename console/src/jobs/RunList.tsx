import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef } from "react";
import type { RunbookStep, RunInfo } from "../api/types";
import { readable } from "../estate/hostList";
import { Presence } from "../estate/Presence";
import { useEstate } from "../estate/useEstate";
import { bytes, span } from "../parts/time";
import { neutralise } from "./output";
import { placeOf } from "./steps";
import { fetchWords, hasOutput, isTrouble, runWord } from "./words";

/** How a job stands on each host: who waits and why, who failed and why. Only what is in sight is drawn. */
export function RunList({
  runs,
  fetches,
  steps,
  chosen,
  onChoose,
}: {
  runs: RunInfo[];
  /** How many bytes each host fetches, where it does. */
  fetches?: number | undefined;
  /** Of the runbook, where it is one. */
  steps?: RunbookStep[] | undefined;
  chosen: string | undefined;
  onChoose: (id: string) => void;
}) {
  const list = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: runs.length,
    getScrollElement: () => list.current,
    estimateSize: () => 58,
    getItemKey: (i) => runs[i]?.id ?? i,
    overscan: 8,
    initialRect: { width: 500, height: 700 },
  });
  const at = runs.findIndex((r) => r.id === chosen);
  useEffect(() => {
    if (at > 0) virtual.scrollToIndex(at);
    // Where the list stood when it was opened; later it is the reader's own.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, []);
  return (
    <div className="rows run-list" ref={list} aria-label="Hosts" role="group">
      <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
        {virtual.getVirtualItems().map((item) => {
          const run = runs[item.index];
          return (
            run && (
              <button
                type="button"
                key={item.key}
                ref={virtual.measureElement}
                data-index={item.index}
                className="row run-row"
                aria-pressed={run.id === chosen}
                onClick={() => onChoose(run.id)}
                style={{ position: "absolute", top: 0, transform: `translateY(${item.start}px)` }}
              >
                <span className="host-name">
                  <b>{run.hostLabel}</b>
                  <span>{readable(run.groupPath)}</span>
                </span>
                <span>
                  <span className={isTrouble(run.state) ? "trouble" : ""}>{runWord(run)}</span>
                  <Why run={run} fetches={fetches} steps={steps} />
                </span>
                <span className="number muted">
                  {took(run)}
                  {hasOutput(run) && <div>{bytes(run.stdoutBytes + run.stderrBytes)}</div>}
                </span>
              </button>
            )
          );
        })}
      </div>
    </div>
  );
}

/** Why it stands so, in a few words. */
function Why({ run, fetches, steps }: { run: RunInfo; fetches: number | undefined; steps: RunbookStep[] | undefined }) {
  const host = useEstate().hosts.get(run.hostId);
  const fetching = fetchWords(run, fetches);
  if (fetching) return <div className="muted run-why">{fetching}</div>;
  const place = steps && !run.reason ? placeOf(run, steps) : "";
  if (place) return <div className="muted run-why">{neutralise(place)}</div>;
  if (run.reason) return <div className="muted run-why">{run.reason}</div>;
  if (run.state === "waiting" && host && host.presence.state !== "linked") {
    return (
      <div className="muted run-why">
        <Presence presence={host.presence} />
      </div>
    );
  }
  return null;
}

export function took(run: RunInfo): string {
  if (!run.startedAt || !run.endedAt) return "";
  const milliseconds = Date.parse(run.endedAt) - Date.parse(run.startedAt);
  return milliseconds < 10_000 ? `${(milliseconds / 1000).toFixed(1)} s` : span(milliseconds);
}
