import { useEffect, useRef, useState } from "react";
import type { RecordingInfo } from "../api/types";
import { customerOf } from "../estate/emblem";
import { useEmblems } from "../estate/useCustomers";
import { Player } from "../sessions/player";
import { PlayerControls, playerKeys } from "../sessions/PlayerControls";
import { type Cast, type CastEvent, readableKeys, sizeOf } from "./cast";
import { openTerminal } from "./terminal";

const KEYS_SHOWN = 80;

/** A recorded shell, shown as it went. */
export function CastShow({ info, cast }: { info: RecordingInfo; cast: Cast }) {
  const box = useRef<HTMLDivElement>(null);
  const [player, setPlayer] = useState<Player<CastEvent>>();
  const [typed, setTyped] = useState("");
  const [mark, setMark] = useState("");
  const edge = useEmblems()(customerOf(info.groupPath)).field;
  useEffect(() => {
    const place = box.current;
    if (!place) return;
    let over = false;
    let close = () => {
      over = true;
    };
    const element = document.createElement("div");
    place.append(element);
    void openTerminal(element, `What ${info.hostLabel} showed`, {
      cols: cast.columns,
      rows: cast.rows,
      disableStdin: true,
      scrollback: 0,
    }).then((terminal) => {
      const made = new Player(
        cast.events,
        {
          reset: () => {
            terminal.reset();
            terminal.resize(cast.columns, cast.rows);
            setTyped("");
            setMark("");
          },
          show: (events) => {
            for (const event of events) {
              if (event.kind === "output") terminal.write(event.text);
              else if (event.kind === "input") setTyped((t) => (t + readableKeys(event.text)).slice(-KEYS_SHOWN));
              else if (event.kind === "mark") setMark(event.text);
              else {
                const size = sizeOf(event.text);
                if (size) terminal.resize(size.columns, size.rows);
              }
            }
          },
        },
        (event) => (event.kind === "mark" ? event.text : undefined),
        3,
      );
      close = () => {
        made.dispose();
        terminal.dispose();
      };
      if (over) close();
      else setPlayer(made);
    });
    return () => {
      close();
      element.remove();
      setPlayer(undefined);
    };
  }, [cast, info.hostLabel]);
  return (
    <section
      className="shell-view"
      style={{ "--edge": edge } as React.CSSProperties}
      aria-label={`Recorded shell on ${info.hostLabel} of ${customerOf(info.groupPath)}`}
      onKeyDown={playerKeys(player)}
    >
      {player && <PlayerControls player={player} />}
      {info.hasKeys && (
        <p className="recording-keys" aria-label="What was typed last">
          <span className="muted">typed</span> <span className="mono">{typed}</span>
        </p>
      )}
      {mark && <p className="terminal-word">{mark}</p>}
      <div ref={box} className="recording-screen" />
    </section>
  );
}
