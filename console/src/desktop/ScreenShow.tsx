import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useState, useSyncExternalStore } from "react";
import { api, ask } from "../api/client";
import type { RecordingInfo, SessionAct } from "../api/types";
import { customerOf } from "../estate/emblem";
import { useEmblems } from "../estate/useCustomers";
import { Player } from "../sessions/player";
import { clock, PlayerControls, playerKeys } from "../sessions/PlayerControls";
import { Trouble } from "../parts/Trouble";
import { actWords } from "../sessions/acts";
import { unseen } from "./desktopLine";
import { Glass } from "./Glass";
import { Replay, type ReplaySeen, unplayed } from "./replay";
import { readableKey, type TapeEntry, wordsOf } from "./tape";

const KEYS_SHOWN = 80;
/** So many entries behind it is said how far it has come. */
const FAR_BEHIND = 200;
const nothing = () => () => undefined;

/** A recorded desktop, shown as it went, with what happened beside the picture. */
export function ScreenShow({ info, blob }: { info: RecordingInfo; blob: Blob }) {
  const [open, setOpen] = useState<{ replay: Replay; canvas: HTMLCanvasElement }>();
  const mount = useCallback(() => {
    const canvas = document.createElement("canvas");
    const replay = new Replay(blob, canvas);
    setOpen({ replay, canvas });
    return () => {
      replay.dispose();
      canvas.remove();
    };
  }, [blob]);
  const seen: ReplaySeen = useSyncExternalStore(
    open?.replay.subscribe ?? nothing,
    open?.replay.seen ?? (() => unplayed),
  );
  const acts = useQuery({
    queryKey: ["session", info.sessionId, "acts"],
    queryFn: async () =>
      (await ask(api.GET("/api/v1/sessions/{id}/acts", { params: { path: { id: info.sessionId } } })))
        .items as SessionAct[],
  });
  const edge = useEmblems()(customerOf(info.groupPath)).field;
  return (
    <section
      ref={mount}
      className="replay"
      style={{ "--edge": edge } as React.CSSProperties}
      aria-label={`Recorded desktop of ${info.hostLabel} of ${customerOf(info.groupPath)}`}
    >
      <Trouble error={seen.problem ? new Error(`The recording can’t be shown: ${seen.problem}`) : undefined} />
      {open && seen.tape && (acts.data || acts.error) && (
        <Shown
          info={info}
          replay={open.replay}
          canvas={open.canvas}
          seen={seen}
          entries={seen.tape.entries}
          acts={acts.data ?? []}
        />
      )}
      {!seen.tape && !seen.problem && <p className="muted">Reading what was recorded …</p>}
    </section>
  );
}

/** What was done in the session while it was recorded, beside the desktop's channel. */
function actsWithin(info: RecordingInfo, acts: readonly SessionAct[]): TapeEntry[] {
  const began = Date.parse(info.beganAt);
  const until = info.endedAt ? Date.parse(info.endedAt) : Infinity;
  return acts.flatMap((a) => {
    const at = Date.parse(a.at);
    const text = at >= began && at <= until ? actWords(a) : undefined;
    return text ? [{ at: (at - began) / 1000, kind: "act", from: 0, length: 0, said: { text } }] : [];
  });
}

function Shown({
  info,
  replay,
  canvas,
  seen,
  entries,
  acts,
}: {
  info: RecordingInfo;
  replay: Replay;
  canvas: HTMLCanvasElement;
  seen: ReplaySeen;
  entries: readonly TapeEntry[];
  acts: readonly SessionAct[];
}) {
  const all = useMemo(() => [...entries, ...actsWithin(info, acts)].sort((a, b) => a.at - b.at), [entries, info, acts]);
  const player = useMemo(
    () =>
      new Player<TapeEntry>(
        all,
        {
          reset: () => replay.reset(),
          show: (events) => replay.show(events.filter((e) => e.kind !== "act")),
        },
        wordsOf,
        3,
      ),
    [all, replay],
  );
  useEffect(() => () => player.stop(), [player]);
  useSyncExternalStore(player.subscribe, player.version);
  const keys = useMemo(() => entries.filter((e) => e.kind === "key"), [entries]);
  const typed = keys
    .slice(0, keys.findLastIndex((e) => e.at <= player.realAt) + 1)
    .slice(-KEYS_SHOWN)
    .map((e) => readableKey(e.said))
    .join("");
  const marks = player.marks;
  const current = marks.findLastIndex((m) => m.at <= player.at);
  return (
    <div className="replay-shown" onKeyDown={playerKeys(player)}>
      <PlayerControls
        player={player}
        going={
          seen.wanted - seen.shown > FAR_BEHIND
            ? `going there … ${String(Math.floor((100 * seen.shown) / seen.wanted))} %`
            : undefined
        }
      />
      {info.hasKeys && (
        <p className="recording-keys" aria-label="What was typed last">
          <span className="muted">typed</span> <span className="mono">{typed}</span>
        </p>
      )}
      <div className="replay-stage" data-shown={seen.shown}>
        <Glass
          line={undefined}
          seen={{ ...unseen, width: seen.width, height: seen.height, cursor: seen.cursor, pointer: seen.pointer }}
          canvas={canvas}
          size="fit"
          part={undefined}
          label={`What the screen of ${info.hostLabel} showed`}
          onZoom={() => undefined}
        />
        <ol className="replay-marks" aria-label="What happened">
          {marks.map((m, i) => (
            <li key={i} aria-current={i === current ? "step" : undefined}>
              <Button size="compact-sm" variant="subtle" color="gray" onClick={() => player.seek(m.at)}>
                <span className="mono">{clock(m.at)}</span> {m.text}
              </Button>
            </li>
          ))}
        </ol>
      </div>
    </div>
  );
}
