import { Link } from "react-router";
import type { AlertLine } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { readable } from "../estate/hostList";
import { Ago, useNow } from "../parts/Ago";
import { minute } from "../parts/time";
import { AlertActs } from "./AlertActs";
import { quietWords, SeverityWord, stateTitle, stateWords } from "./severity";

/** Alerts, the worst first; what has one cause is one line. */
export function AlertLines({ lines, ofOneHost = false }: { lines: AlertLine[]; ofOneHost?: boolean }) {
  const now = useNow();
  return (
    <div className="rows">
      {lines.map((line) => {
        const [lead] = line.alerts;
        if (!lead) return null;
        const many = line.alerts.some((a) => a.hostId !== lead.hostId);
        return (
          <div key={lead.id} className={`row alert-row ${line.state === "open" ? "" : "muted"}`}>
            <SeverityWord severity={line.severity} />
            <span className="alert-what">
              <Link to={`/now/${lead.id}`}>{line.what}</Link>
              <span className="muted">
                <Ago time={line.raisedAt} />
                {line.state !== "open" && (
                  <span title={stateTitle(lead)}>
                    {" "}
                    · {stateWords(lead, now)}
                    {lead.note && `: ${lead.note}`}
                  </span>
                )}
                {lead.quietUntil && <span title={`until ${minute(lead.quietUntil)}`}> · {quietWords(lead, now)}</span>}
                {many && ` · ${line.alerts.map((a) => a.label).join(", ")}`}
              </span>
              {!many &&
                line.alerts.slice(1).map((a) => (
                  <Link key={a.id} className="also" to={`/now/${a.id}`}>
                    {a.what}
                  </Link>
                ))}
            </span>
            {!ofOneHost && (
              <span className="secret-place">
                {(!many || line.place) && <Emblem customer={customerOf(lead.groupPath)} />}
                <span className="host-name">
                  {line.place ? (
                    <Link to={`/hosts?scope=${encodeURIComponent(line.place)}`}>{readable(line.place)}</Link>
                  ) : many ? (
                    `${line.alerts.length} hosts`
                  ) : (
                    <Link to={`/hosts/${lead.hostId}`}>{lead.label}</Link>
                  )}
                  <span>
                    {line.place
                      ? `${line.alerts.length} hosts`
                      : many
                        ? [...new Set(line.alerts.map((a) => customerOf(a.groupPath)))].join(", ")
                        : readable(lead.groupPath)}
                  </span>
                </span>
              </span>
            )}
            <AlertActs line={line} />
          </div>
        );
      })}
    </div>
  );
}
