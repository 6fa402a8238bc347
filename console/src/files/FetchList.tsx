import { Button } from "@mantine/core";
import { bytes, span } from "../parts/time";
import type { Fetching } from "./fetching";
import { Problems } from "./Problems";

export interface FetchRow {
  id: number;
  name: string;
  path: string;
  at: Fetching;
}

/** Files that are on their way here, or have come. */
export function FetchList({ rows, onStop }: { rows: FetchRow[]; onStop: (id: number) => void }) {
  if (rows.length === 0) return null;
  return (
    <ul className="fetch-list" aria-label="Files that are fetched">
      {rows.map(({ id, name, path, at }) => (
        <li key={id}>
          <span className="mono fetch-name" title={path}>
            {name}
          </span>
          <progress
            max={Math.max(1, at.bytes)}
            value={at.state === "done" ? Math.max(1, at.bytes) : at.here}
            aria-label={`How far ${name} is`}
          />
          <span className={at.state === "failed" ? "trouble" : "muted"}>{words(at)}</span>
          {(at.state === "going" || at.state === "waiting") && (
            <Button size="compact-sm" variant="default" aria-label={`Stop fetching ${name}`} onClick={() => onStop(id)}>
              Stop
            </Button>
          )}
          <Problems of={at.problems ?? []} what="did not come" />
        </li>
      ))}
    </ul>
  );
}

function words(at: Fetching): string {
  switch (at.state) {
    case "done":
      return `${bytes(at.here)}, ${at.problems ? "each file as its host has read it" : "as the host has read it"}. ${at.note ?? ""}`;
    case "going": {
      const left = at.rate > 0 ? `, ${span((1000 * Math.max(0, at.bytes - at.here)) / at.rate)} left` : "";
      return at.note ?? `${bytes(at.here)} of ${bytes(at.bytes)}${at.rate > 0 ? `, ${bytes(at.rate)}/s${left}` : ""}`;
    }
    default:
      return at.note ?? "";
  }
}
