import { Button } from "@mantine/core";
import { bytes, span } from "../parts/time";
import type { ParcelAt } from "./parcels";

/** How far files are on their way to the service, before any host fetches them. */
export function SendingToService({ at, onStop }: { at: ParcelAt; onStop: () => void }) {
  const left = at.rate > 0 ? `, ${bytes(at.rate)}/s, ${span((1000 * (at.bytes - at.there)) / at.rate)} left` : "";
  return (
    <div className="to-service" role="status">
      <progress
        max={Math.max(1, at.bytes)}
        value={at.there}
        aria-label="How far they are on their way to the service"
      />
      <span className="muted">{at.note ?? `${bytes(at.there)} of ${bytes(at.bytes)} to the service${left}`}</span>
      <Button size="compact-sm" variant="default" onClick={onStop}>
        Stop
      </Button>
    </div>
  );
}
