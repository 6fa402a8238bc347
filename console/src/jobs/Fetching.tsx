import type { RunInfo } from "../api/types";
import { bytes as inBytes } from "../parts/time";
import { isFinal } from "./words";

/** How much of what all hosts are to fetch they have fetched. */
export function Fetching({ bytes, runs }: { bytes: number; runs: RunInfo[] }) {
  // Those that ended in trouble fetch nothing any more.
  const all = bytes * runs.filter((r) => !isFinal(r.state) || r.state === "succeeded").length;
  const there = runs.reduce(
    (sum, r) => sum + (r.state === "succeeded" ? bytes : isFinal(r.state) ? 0 : Math.min(bytes, r.fetchedBytes ?? 0)),
    0,
  );
  if (all === 0) return null;
  return (
    <div className="to-service" role="status">
      <progress max={all} value={there} aria-label="How much the hosts have fetched" />
      <span className="muted">
        {inBytes(there)} of {inBytes(all)} are on the hosts
      </span>
    </div>
  );
}
