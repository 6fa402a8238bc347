import { Link } from "react-router";
import type { AlertLine, PlaceHealth } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { readable } from "../estate/hostList";
import { useScope } from "../estate/useEstate";
import { useNow } from "../parts/Ago";
import { span } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { SeverityMark, SeverityWord, stateWords } from "./severity";
import { scopeSelection, useAlertCount, useAlerts, useOverview } from "./useAlerts";

/** More would be too small to be read from across a room; how many there are besides is said. */
const mostLines = 7;

/** For a screen on a wall: what needs a person, in letters that are read from across the room, and every place. */
export function WallPage() {
  const [scope] = useScope();
  useAlertCount();
  const alerts = useAlerts({ on: scopeSelection(scope) });
  const overview = useOverview(scope);
  const now = useNow(1000);
  const lines = alerts.data ?? [];
  const open = lines.filter((l) => l.state === "open");
  const shown = [...open, ...lines.filter((l) => l.state === "acknowledged")];
  const whole = overview.data?.whole;
  const trouble = alerts.error ?? overview.error;
  return (
    <main className="wall">
      <header>
        <h1>{scope ? readable(scope) : "Everything"}</h1>
        {whole && (
          <span className="wall-counts">
            <b>{whole.linked}</b> of {whole.hosts} linked
            {whole.lost > 0 && (
              <>
                , <b>{whole.lost}</b> lost
              </>
            )}
          </span>
        )}
        <time className="wall-clock">
          {new Date(now).toLocaleTimeString(undefined, { hour: "2-digit", minute: "2-digit" })}
        </time>
        <Link to={`/now${scope ? `?scope=${encodeURIComponent(scope)}` : ""}`}>Leave</Link>
      </header>
      {trouble ? (
        <div className="broken-line">
          The service does not answer; what stands here is the last that was known.
          <Trouble error={trouble} />
        </div>
      ) : null}
      <section aria-label="What needs a person" className="wall-alerts">
        {alerts.data && shown.length === 0 && <p className="wall-calm">Nothing needs anybody.</p>}
        {shown.slice(0, mostLines).map((l) => (
          <Line key={l.alerts[0]?.id} line={l} now={now} />
        ))}
        {shown.length > mostLines && <p className="muted">and {shown.length - mostLines} more</p>}
      </section>
      {overview.data && overview.data.places.length > 0 && (
        <section aria-label="Every place" className="wall-places">
          {overview.data.places.map((p) => (
            <Place key={p.path} place={p} />
          ))}
        </section>
      )}
    </main>
  );
}

function Line({ line, now }: { line: AlertLine; now: number }) {
  const [lead] = line.alerts;
  if (!lead) return null;
  return (
    <div className={`wall-line ${line.state === "open" ? "" : "muted"}`}>
      <SeverityWord severity={line.severity} />
      <span>
        {line.what}
        {line.state !== "open" && <span className="muted"> {stateWords(lead, now)}</span>}
      </span>
      <span className="muted">{span(now - Date.parse(line.raisedAt))}</span>
    </div>
  );
}

function Place({ place }: { place: PlaceHealth }) {
  return (
    <div className="wall-place">
      <span className="whose">
        <Emblem customer={customerOf(place.path)} size={28} />
        <b>{place.path.split("/").at(-1)}</b>
      </span>
      <span>
        {place.linked} of {place.hosts} linked
      </span>
      <span className="wall-subsystems">
        {place.subsystems.length === 0
          ? "well"
          : place.subsystems.map((s) => (
              <span key={s.subsystem} className="severity">
                <SeverityMark severity={s.worst} />
                {s.subsystem} {s.hosts}
                <span className="hidden-text"> hosts, {s.worst}</span>
              </span>
            ))}
      </span>
    </div>
  );
}
