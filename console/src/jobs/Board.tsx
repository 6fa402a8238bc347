import type { RunCounts, RunState } from "../api/types";
import { countsOf } from "./words";

/** How far a job is: a bar whose parts are as long as their share, each with its word and number, which shows those hosts. */
export function Board({
  counts,
  chosen,
  onChoose,
}: {
  counts: RunCounts;
  chosen: RunState | undefined;
  onChoose: (state: RunState | undefined) => void;
}) {
  const parts = countsOf(counts);
  const total = parts.reduce((sum, p) => sum + p.count, 0);
  const ended = total - counts.waiting - counts.sent - counts.running;
  return (
    <div className="board">
      <svg
        className="board-bar"
        viewBox={`0 0 ${Math.max(1, total)} 1`}
        preserveAspectRatio="none"
        role="img"
        aria-label={`${ended} of ${total} have ended`}
      >
        {parts.map((part, i) => (
          <rect
            key={part.state}
            className={`part ${part.state}`}
            x={parts.slice(0, i).reduce((sum, p) => sum + p.count, 0)}
            y={0}
            width={part.count}
            height={1}
          />
        ))}
      </svg>
      <div className="board-counts">
        <b aria-live="polite">
          {ended} of {total} ended
        </b>
        {parts.map((part) => (
          <button
            type="button"
            key={part.state}
            className="board-count"
            aria-pressed={chosen === part.state}
            onClick={() => onChoose(chosen === part.state ? undefined : part.state)}
          >
            <span className={`state-mark ${part.state}`} aria-hidden="true" />
            {part.count} {part.state.replace("-", " ")}
          </button>
        ))}
      </div>
    </div>
  );
}
