import type { DesktopSeen } from "./desktopLine";

/** Slower than that one feels it, and is told. */
const SLOW = 250;

const amount = (bytes: number) =>
  bytes < 1000
    ? `${String(bytes)} B/s`
    : bytes < 999_500
      ? `${(bytes / 1000).toFixed(0)} kB/s`
      : `${(bytes / 1e6).toFixed(1)} MB/s`;

/** How long a word takes there and back, how many pictures come, and how much. */
export function Meter({ seen, children }: { seen: DesktopSeen; children?: React.ReactNode }) {
  if (seen.state !== "connected")
    return (
      <span className="desktop-meter">
        <span className="muted">{words[seen.state]}</span>
        {children}
      </span>
    );
  const slow = seen.delay !== undefined && seen.delay > SLOW;
  return (
    <span className="desktop-meter">
      {slow && (
        <b className="warning" title="What you do shows late. Pictures come less sharp until the line carries more.">
          poor line
        </b>
      )}
      <span>{seen.delay === undefined ? "–" : `${seen.delay.toFixed(0)} ms`}</span>
      <span>{seen.frames === 1 ? "1 picture/s" : `${String(seen.frames)} pictures/s`}</span>
      <span>{amount(seen.bytes)}</span>
      {children}
    </span>
  );
}

const words = {
  opening: "opening",
  connected: "",
  waiting: "waiting for a screen",
  broken: "broken line",
  ended: "ended",
};
