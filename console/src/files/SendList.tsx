import { Button, NumberInput } from "@mantine/core";
import { useState } from "react";
import { whole } from "../parts/number";
import { bytes, span } from "../parts/time";
import type { Sending, SendQueue } from "./sending";

/** Most rows that are drawn; those that are under way come first. */
const MOST = 30;

/** Files that are on their way to the host, or have come there. */
export function SendList({ rows, queue, label }: { rows: Sending[]; queue: SendQueue; label: string }) {
  const [rate, setRate] = useState<string | number>("");
  if (rows.length === 0) return null;
  const over = rows.filter((r) => r.state === "done");
  const open = rows.filter((r) => r.state !== "done");
  const shown = [...open, ...over.slice(-5)].slice(0, MOST);
  const ended = rows.some((r) => ["done", "stopped", "failed"].includes(r.state));
  return (
    <section className="send-list" aria-label={`Files that are sent to ${label}`}>
      <ul className="fetch-list">
        {shown.map((at) => (
          <li key={at.id}>
            <span className="mono fetch-name" title={at.path}>
              {at.name}
            </span>
            <progress
              max={Math.max(1, at.bytes)}
              value={at.state === "done" ? Math.max(1, at.bytes) : at.there}
              aria-label={`How far ${at.name} is`}
            />
            <span className={at.state === "failed" ? "trouble" : "muted"}>{words(at)}</span>
            <span className="send-acts">
              {at.state === "queued" && open[0] !== at && (
                <Button
                  size="compact-sm"
                  variant="subtle"
                  color="gray"
                  aria-label={`Send ${at.name} first`}
                  onClick={() => queue.first(at.id)}
                >
                  First
                </Button>
              )}
              {["queued", "going", "waiting"].includes(at.state) && (
                <>
                  <Button
                    size="compact-sm"
                    variant="default"
                    aria-label={`Pause sending ${at.name}`}
                    onClick={() => queue.pause(at.id)}
                  >
                    Pause
                  </Button>
                  <Button
                    size="compact-sm"
                    variant="default"
                    aria-label={`Stop sending ${at.name}`}
                    onClick={() => queue.stop(at.id)}
                  >
                    Stop
                  </Button>
                </>
              )}
              {["paused", "failed"].includes(at.state) && (
                <Button
                  size="compact-sm"
                  variant="default"
                  aria-label={`Go on sending ${at.name}`}
                  onClick={() => queue.resume(at.id)}
                >
                  {at.state === "paused" ? "Go on" : "Try again"}
                </Button>
              )}
            </span>
          </li>
        ))}
      </ul>
      {open.length > 0 && (
        <NumberInput
          className="send-rate"
          size="xs"
          label="At most, MiB a second"
          placeholder="as fast as it goes"
          min={0.01}
          value={rate}
          onChange={(most) => {
            setRate(most);
            const limit = whole(most);
            queue.limit(limit !== null && limit > 0 ? Math.max(1024, limit * 1024 * 1024) : undefined);
          }}
        />
      )}
      <p className="muted file-foot" role="status">
        {summary(rows)}{" "}
        {ended && (
          <Button size="compact-sm" variant="subtle" color="gray" onClick={() => queue.clear()}>
            Clear those that have ended
          </Button>
        )}
      </p>
    </section>
  );
}

function words(at: Sending): string {
  switch (at.state) {
    case "done":
      return `${bytes(at.bytes)}, there as it was read here.`;
    case "queued":
      return `${bytes(at.bytes)}, waits its turn.`;
    case "going": {
      const left =
        at.rate > 0 ? `, ${bytes(at.rate)}/s, ${span((1000 * Math.max(0, at.bytes - at.there)) / at.rate)} left` : "";
      return `${bytes(at.there)} of ${bytes(at.bytes)}${left}`;
    }
    default:
      return at.note ?? "";
  }
}

/** "412 of 413 sent, 3.1 MiB; 1 failed." */
function summary(rows: Sending[]): string {
  const done = rows.filter((r) => r.state === "done");
  const failed = rows.filter((r) => r.state === "failed").length;
  const size = bytes(done.reduce((sum, r) => sum + r.bytes, 0));
  return `${done.length} of ${rows.length} sent, ${size}${failed > 0 ? `; ${failed} failed` : ""}.`;
}
