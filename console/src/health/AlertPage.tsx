import { Button } from "@mantine/core";
import { Link, useParams } from "react-router";
import { ServiceProblem } from "../api/client";
import type { AlertDetail, AlertNotice, AlertReaction } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { readable } from "../estate/hostList";
import { useEmblems } from "../estate/useCustomers";
import { isTrouble } from "../jobs/words";
import { Ago, useNow } from "../parts/Ago";
import { exact, minute } from "../parts/time";
import { Empty, Trouble } from "../parts/Trouble";
import { AlertActs } from "./AlertActs";
import { metricTitle } from "./figures";
import { MetricGraph } from "./MetricGraph";
import { SeverityWord, stateTitle, stateWords } from "./severity";
import { useAlert } from "./useAlerts";
import { useSeries } from "./useSeries";
import { openAtOnce } from "../shell/openAtOnce";

const kinds: Record<string, string> = { ran: "job", alerted: "alert" };

/** One alert: what is wrong, what follows, how to fix it, its graph, what happened before, and who has the same. */
export function AlertPage() {
  const { id = "" } = useParams();
  const found = useAlert(id);
  const emblems = useEmblems();
  const now = useNow();
  if (!found.data) {
    return (
      <main className="page">
        {found.error instanceof ServiceProblem && found.error.status !== 404 ? (
          <Trouble error={found.error} />
        ) : found.error ? (
          <Empty title="There is no such alert">
            It may be of a host that you may not see. <Link to="/now">What needs a person</Link>
          </Empty>
        ) : (
          <Empty title="Asking the service …" />
        )}
      </main>
    );
  }
  const { alert, before, same } = found.data;
  const customer = customerOf(alert.groupPath);
  const line = {
    place: null,
    what: alert.what,
    severity: alert.severity,
    state: alert.state,
    raisedAt: alert.raisedAt,
  };
  return (
    <>
      <div className="identity" style={{ "--edge": emblems(customer).field } as React.CSSProperties}>
        <h1>
          <Link to={`/hosts/${alert.hostId}`}>{alert.label}</Link>
        </h1>
        <span className="mono muted">{alert.systemName}</span>
        <span className="whose">
          <Emblem customer={customer} size={24} />
          <Link to={`/hosts?scope=${encodeURIComponent(alert.groupPath)}`}>{readable(alert.groupPath)}</Link>
        </span>
        <SeverityWord severity={alert.severity} />
        <span title={stateTitle(alert)}>{stateWords(alert, now)}</span>
        <span className="host-acts">
          <Button
            component={Link}
            to={`/hosts/${alert.hostId}?panel=command`}
            size="compact-sm"
            variant="default"
          >{`Run a command on ${alert.label}`}</Button>
          <Button
            component={Link}
            to={`/hosts/${alert.hostId}?panel=shell`}
            state={openAtOnce}
            size="compact-sm"
            variant="default"
          >{`Open a shell on ${alert.label}`}</Button>
          <AlertActs line={{ ...line, alerts: [alert] }} />
        </span>
      </div>
      <main className="page">
        <div className="panels">
          <div className="stack">
            <section className="panel alert-text" aria-label="What is wrong">
              <h2>{alert.what}</h2>
              <p className="muted">
                {alert.checkName}, raised <Ago time={alert.raisedAt} /> ({exact(alert.raisedAt)})
                {alert.note && ` · ${alert.note}`}
              </p>
              {alert.follows && (
                <>
                  <h3>If nobody does anything</h3>
                  <p>{alert.follows}</p>
                </>
              )}
              {alert.fix && (
                <>
                  <h3>How to fix it</h3>
                  <p className="wrap">{alert.fix}</p>
                </>
              )}
            </section>
            <Told notices={found.data.notices} quietUntil={alert.quietUntil} />
            {found.data.reactions.length > 0 && <Reacted reactions={found.data.reactions} />}
            <section className="panel" aria-labelledby="before-title">
              <header>
                <h2 id="before-title">What happened in the day before</h2>
              </header>
              {before.length === 0 ? (
                <p className="muted" style={{ margin: 0 }}>
                  Nothing that was noted.
                </p>
              ) : (
                <ol className="timeline">
                  {before.map((e, i) => (
                    <li key={`${e.at} ${i}`}>
                      <span className="muted">
                        <Ago time={e.at} />
                      </span>
                      <span>
                        <b>{kinds[e.kind] ?? e.kind}</b>{" "}
                        {e.jobId ? <Link to={`/work/${e.jobId}`}>{e.text}</Link> : e.text}
                        {e.by && <span className="muted"> by {e.by}</span>}
                      </span>
                    </li>
                  ))}
                </ol>
              )}
            </section>
          </div>
          <div className="stack">
            <Graph detail={found.data} />
            <section className="panel" aria-labelledby="same-title">
              <header>
                <h2 id="same-title">Other hosts with the same</h2>
              </header>
              {same.length === 0 ? (
                <p className="muted" style={{ margin: 0 }}>
                  None.
                </p>
              ) : (
                <ul className="history">
                  {same.map((a) => (
                    <li key={a.id} className="whose">
                      <Emblem customer={customerOf(a.groupPath)} />
                      <Link to={`/now/${a.id}`}>{a.label}</Link>
                      <span className="muted">
                        {readable(a.groupPath)}, <Ago time={a.raisedAt} />
                      </span>
                    </li>
                  ))}
                </ul>
              )}
            </section>
          </div>
        </div>
      </main>
    </>
  );
}

/** Who was told, who is going to be, and why somebody is not. */
function Told({ notices, quietUntil }: { notices: AlertNotice[]; quietUntil: string | null | undefined }) {
  return (
    <section className="panel" aria-labelledby="told-title">
      <header>
        <h2 id="told-title">Who is told</h2>
        <Link to="/rules/notices">Notices</Link>
      </header>
      {quietUntil && <p className="muted">Its host is in a maintenance window until {minute(quietUntil)}.</p>}
      {notices.length === 0 ? (
        <p className="muted" style={{ margin: 0 }}>
          Nobody: no notice is about it.
        </p>
      ) : (
        <ul className="history">
          {notices.map((n, i) => (
            <li key={`${n.noticeId} ${i}`}>
              <b>{n.notice}</b> {n.said}
              {n.at && (
                <>
                  , <Ago time={n.at} />
                </>
              )}
              {n.until && <span className="muted"> ({minute(n.until)})</span>}
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}

/** What ran because of it, is going to, or did not, and why. */
function Reacted({ reactions }: { reactions: AlertReaction[] }) {
  return (
    <section className="panel" aria-labelledby="reacted-title">
      <header>
        <h2 id="reacted-title">What runs because of it</h2>
        <Link to="/rules/reactions">Reactions</Link>
      </header>
      <ul className="history">
        {reactions.map((r) => (
          <li key={r.reactionId}>
            {r.jobId ? (
              <>
                <Link to={`/work/${r.jobId}`}>{r.name}</Link>{" "}
                <span className={r.state && isTrouble(r.state) ? "trouble" : ""}>
                  {r.state?.replace("-", " ") ?? "made a job"}
                </span>
              </>
            ) : (
              <>
                <b>{r.name}</b>{" "}
                <span className="muted">
                  {r.at ? "did not run" : "has not run"}. {r.says}
                </span>
              </>
            )}
            {r.at && (
              <>
                , <Ago time={r.at} />
              </>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The figure that the check looks at, from a day before it was raised, with the line that it crossed. */
function Graph({ detail: { alert, graph } }: { detail: AlertDetail }) {
  const now = useNow(60_000) / 1000;
  const raised = Date.parse(alert.raisedAt) / 1000;
  const over = alert.state === "cleared" ? Date.parse(alert.stateAt) / 1000 + 3600 : undefined;
  const span = over ? { from: raised - 6 * 3600, to: over } : { last: Math.max(6 * 3600, now - raised + 3 * 3600) };
  const series = useSeries(alert.hostId, graph ? [graph.metric] : ["processor"], quantised(span));
  if (!graph) return null;
  const data = series.data;
  return (
    <section className="panel" aria-label="The graph that belongs to it">
      <Trouble error={series.error} />
      {data && (
        <MetricGraph
          title={metricTitle(graph.metric)}
          lines={data.lines.filter((l) => l.metric === graph.metric && (!graph.part || l.part === graph.part))}
          at={data.at}
          from={Date.parse(data.from) / 1000}
          to={Date.parse(data.to) / 1000}
          marks={data.marks}
          threshold={graph.threshold}
          height={220}
        />
      )}
    </section>
  );
}

/** The same question for a while: a span that moved on with every look would be asked anew each time. */
const quantised = (span: { from: number; to: number } | { last: number }) =>
  "last" in span
    ? { last: Math.ceil(span.last / 1800) * 1800 }
    : { from: Math.floor(span.from), to: Math.floor(span.to) };
