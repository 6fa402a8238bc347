import { Button } from "@mantine/core";
import { useMe } from "../access/useMay";
import type { DesktopLine, DesktopSeen } from "./desktopLine";

/** Who of several that may control a desktop does, and how it passes to another. */
export function HandsWord({ line, seen }: { line: DesktopLine; seen: DesktopSeen }) {
  const me = useMe();
  const { hands } = seen;
  const { label } = line.host;
  if (!hands || seen.state !== "connected") return null;
  if (hands.mine && hands.askedBy)
    return (
      <p className="desktop-word" role="alert">
        {hands.askedBy} asks to control {label}. It passes in 20 seconds, unless you keep it.
        <Button size="compact-sm" variant="filled" onClick={() => line.hands("give")}>
          Let {hands.askedBy} control
        </Button>
        <Button size="compact-sm" variant="default" onClick={() => line.hands("keep")}>
          Keep control
        </Button>
      </p>
    );
  if (hands.mine) return null;
  const asked = hands.askedBy !== undefined && hands.askedBy === me?.name;
  return (
    <p className="desktop-word" role="status">
      {hands.by ?? "Nobody"} controls {label} now. You see it, and what you do here has no effect.{" "}
      {asked ? (
        <span className="muted">{hands.by} is asked.</span>
      ) : (
        <Button size="compact-sm" variant="default" onClick={() => line.hands("ask")}>
          Ask to control
        </Button>
      )}
    </p>
  );
}

/** Lets another who may control the desktop do it. */
export function PassOn({ line, seen }: { line: DesktopLine; seen: DesktopSeen }) {
  const next = seen.others.find((o) => o.control && !o.acts);
  if (!seen.hands?.mine || !next || seen.hands.askedBy) return null;
  return (
    <Button size="compact-sm" variant="default" onClick={() => line.hands("give")}>
      Let {next.technician} control
    </Button>
  );
}
