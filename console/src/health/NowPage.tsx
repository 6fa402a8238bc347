import { SegmentedControl } from "@mantine/core";
import { useState } from "react";
import { Link } from "react-router";
import { NoHostYet } from "../estate/NoHostYet";
import { readable } from "../estate/hostList";
import { useScope } from "../estate/useEstate";
import { Empty, Trouble } from "../parts/Trouble";
import { AlertLines } from "./AlertLines";
import { PlacesTable } from "./PlacesTable";
import { TrendPanel } from "./TrendPanel";
import { scopeSelection, useAlerts, useOverview } from "./useAlerts";

/** What needs a person now, then how every place fares. */
export function NowPage() {
  const [scope] = useScope();
  const [which, setWhich] = useState<"now" | "over">("now");
  const alerts = useAlerts({ on: scopeSelection(scope), all: which === "over" || undefined });
  const overview = useOverview(scope);
  const lines = alerts.data?.filter((l) =>
    which === "over" ? l.state === "cleared" || l.state === "dismissed" : true,
  );
  const open = lines?.filter((l) => l.state === "open") ?? [];
  const rest = lines?.filter((l) => l.state !== "open") ?? [];
  const whole = overview.data?.whole;
  return (
    <main className="page">
      <div className="page-head">
        <h1>{which === "over" ? "What is over" : "What needs a person"}</h1>
        {whole && (
          <span className="counts">
            <span>
              <b>{whole.hosts}</b> hosts
            </span>
            <span>
              <b>{whole.linked}</b> linked
            </span>
            <span>
              <b>{whole.lost}</b> lost
            </span>
          </span>
        )}
        <Link className="wall-link" to={`/wall${scope ? `?scope=${encodeURIComponent(scope)}` : ""}`}>
          Wall display
        </Link>
        <SegmentedControl
          aria-label="Which alerts"
          value={which}
          onChange={(v) => setWhich(v as "now" | "over")}
          data={[
            { value: "now", label: "Now" },
            { value: "over", label: "Over" },
          ]}
        />
      </div>
      <Trouble error={alerts.error ?? overview.error} />
      {lines?.length === 0 && which === "now" && !scope && whole?.hosts === 0 && <NoHostYet />}
      {lines?.length === 0 && whole && (which === "over" || scope || whole.hosts > 0) && (
        <Empty title={which === "over" ? "Nothing is over yet" : "Nothing needs anybody"}>
          {which === "over"
            ? "Alerts that have cleared, and those that were dismissed, stand here."
            : `Every check is content with ${scope ? readable(scope) : "every host that you may see"}.`}
        </Empty>
      )}
      {open.length > 0 && <AlertLines lines={open} />}
      {rest.length > 0 && (
        <>
          {which === "now" && <h2 className="section">Somebody is at it, or it is quiet</h2>}
          <AlertLines lines={rest} />
        </>
      )}
      {which === "now" && overview.data && overview.data.places.length > 0 && (
        <>
          <h2 className="section">{scope ? `Places in ${readable(scope)}` : "Every customer"}</h2>
          <PlacesTable overview={overview.data} />
        </>
      )}
      {which === "now" && (
        <>
          <h2 className="section">How it goes</h2>
          <TrendPanel scope={scope} />
        </>
      )}
    </main>
  );
}
