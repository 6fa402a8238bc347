import { Link } from "react-router";
import type { HealthOverview, PlaceHealth, Subsystem } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { SeverityMark, subsystems } from "./severity";

/** Places by subsystem: how bad the worst is, and on how many hosts. */
export function PlacesTable({ overview }: { overview: HealthOverview }) {
  return (
    <div className="matrix-frame" tabIndex={0} role="region" aria-label="Places by subsystem">
      <table className="matrix places-health">
        <thead>
          <tr>
            <th scope="col">Place</th>
            <th scope="col" className="number">
              Linked
            </th>
            {subsystems.map((s) => (
              <th key={s} scope="col">
                {s}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {overview.places.map((p) => (
            <tr key={p.path}>
              <th scope="row">
                <span className="whose">
                  <Emblem customer={customerOf(p.path)} />
                  <Link to={`/now?scope=${encodeURIComponent(p.path)}`}>{p.path.split("/").at(-1)}</Link>
                </span>
              </th>
              <td className="number">
                {p.linked} of {p.hosts}
              </td>
              {subsystems.map((s) => (
                <Cell key={s} place={p} subsystem={s} />
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Cell({ place, subsystem }: { place: PlaceHealth; subsystem: Subsystem }) {
  const state = place.subsystems.find((s) => s.subsystem === subsystem);
  if (!state)
    return (
      <td className="muted">
        <span aria-hidden="true">·</span>
        <span className="hidden-text">well</span>
      </td>
    );
  return (
    <td>
      <span className="severity">
        <SeverityMark severity={state.worst} />
        <span>
          {state.hosts}
          <span className="hidden-text">
            {" "}
            {state.hosts === 1 ? "host" : "hosts"}, {state.worst}
          </span>
        </span>
      </span>
    </td>
  );
}
