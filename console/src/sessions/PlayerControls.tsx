import { Button, SegmentedControl, Select, Slider } from "@mantine/core";
import { useState, useSyncExternalStore } from "react";
import type { Player, Timed } from "./player";

const LONGEST_PAUSES = [
  { value: "1", label: "pauses of 1 s at most" },
  { value: "3", label: "pauses of 3 s at most" },
  { value: "any", label: "pauses as they were" },
];

export const clock = (seconds: number) =>
  `${String(Math.floor(seconds / 60))}:${String(Math.floor(seconds % 60)).padStart(2, "0")}`;

/** Space stops and goes on, arrows go back and forth. */
export function playerKeys<E extends Timed>(player: Player<E> | undefined) {
  return (e: React.KeyboardEvent) => {
    // Buttons and choices have keys of their own.
    if (!player || (e.target as HTMLElement).closest("button, input, [role=slider]")) return;
    if (e.key === " ") {
      e.preventDefault();
      if (player.playing) player.stop();
      else player.play();
    } else if (e.key === "ArrowLeft") player.seek(player.at - 5);
    else if (e.key === "ArrowRight") player.seek(player.at + 5);
  };
}

/**
 * Where one is in a recording, how fast it goes, and what is left out.
 * @param going How far it has come, where it takes long to go there.
 */
export function PlayerControls<E extends Timed>({ player, going }: { player: Player<E>; going?: string }) {
  useSyncExternalStore(player.subscribe, player.version);
  const [longest, setLongest] = useState("3");
  return (
    <header className="recording-controls">
      <Button size="compact-sm" variant="filled" onClick={() => (player.playing ? player.stop() : player.play())}>
        {player.playing ? "Stop" : player.at >= player.length && player.length > 0 ? "Again" : "Play"}
      </Button>
      <Slider
        className="recording-slider"
        aria-label="Where in the recording"
        size="sm"
        min={0}
        max={Math.max(player.length, 0.1)}
        step={0.1}
        value={player.at}
        label={(v) => clock(v)}
        thumbLabel="Where in the recording"
        marks={player.marks.map((m) => ({ value: m.at }))}
        onChange={(v) => player.seek(v)}
      />
      <span className="mono" role="timer">
        {clock(player.at)} of {clock(player.length)}
      </span>
      {going && (
        <span className="muted" role="status">
          {going}
        </span>
      )}
      <SegmentedControl
        size="xs"
        aria-label="Pace"
        value={String(player.pace)}
        onChange={(v) => player.setPace(Number(v))}
        data={["1", "2", "4", "16"].map((p) => ({ value: p, label: `${p}×` }))}
      />
      <Select
        size="xs"
        aria-label="Longest pause"
        data={LONGEST_PAUSES}
        value={longest}
        allowDeselect={false}
        onChange={(v) => {
          setLongest(v ?? "3");
          player.setLongestPause(v === "any" ? undefined : Number(v));
        }}
      />
    </header>
  );
}
