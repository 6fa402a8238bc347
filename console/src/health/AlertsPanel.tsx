import { Link } from "react-router";
import type { HostSummary } from "../api/types";
import { selectionOf } from "../estate/hostList";
import { minute } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { AlertLines } from "./AlertLines";
import { ProbesPart } from "./ProbesPart";
import { useAlerts } from "./useAlerts";
import { useMaintenance } from "./useMaintenance";

/** What is wrong with one host. */
export function AlertsPanel({ host }: { host: HostSummary }) {
  const alerts = useAlerts({ on: selectionOf(host) });
  const windows = useMaintenance(host.id);
  const lines = alerts.data
    ?.map((l) => ({ ...l, alerts: l.alerts.filter((a) => a.hostId === host.id) }))
    .filter((l) => l.alerts.length > 0);
  return (
    <section className="panel" aria-labelledby="alerts-title">
      <header>
        <h2 id="alerts-title">Alerts</h2>
      </header>
      <Trouble error={alerts.error ?? windows.error} />
      {windows.data
        ?.filter((w) => w.now)
        .map((w) => (
          <p key={w.id} className="muted" style={{ margin: 0 }}>
            <Link to="/rules/maintenance">{w.name}</Link>: maintenance until {w.to && minute(w.to)}; nobody is told of
            its alerts.
          </p>
        ))}
      {lines &&
        (lines.length === 0 ? (
          <p className="muted" style={{ margin: 0 }}>
            Every check is content with {host.label}.
          </p>
        ) : (
          <AlertLines lines={lines} ofOneHost />
        ))}
      <ProbesPart hostId={host.id} />
    </section>
  );
}
