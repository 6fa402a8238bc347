import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask } from "../api/client";
import type { HealthTrend, MetricLine } from "../api/types";
import { Emblem } from "../estate/Emblem";
import { customerOf } from "../estate/emblem";
import { readable } from "../estate/hostList";
import { useNow } from "../parts/Ago";
import { minute, span } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { MetricGraph } from "./MetricGraph";

/** How the last week went, and whose storage fills up next. */
export function TrendPanel({ scope }: { scope: string }) {
  const now = useNow(60_000);
  const trend = useQuery({
    queryKey: ["overview", "trend", scope],
    queryFn: async () =>
      (await ask(
        api.GET("/api/v1/overview/trend", { params: { query: scope ? { path: scope, days: 7 } : { days: 7 } } }),
      )) as HealthTrend,
    refetchInterval: 300_000,
    placeholderData: (before: HealthTrend | undefined) => before,
  });
  const t = trend.data;
  return (
    <div className="panels">
      <section className="panel" aria-label="Alerts in the last seven days">
        <Trouble error={trend.error} />
        {t && (
          <MetricGraph
            title="Alerts in the last seven days"
            lines={trendLines(t)}
            at={t.at}
            from={t.at[0] ?? 0}
            to={(t.at.at(-1) ?? 0) + t.stepSeconds}
            strokes={["--trouble", "--warning", "--info"]}
            height={150}
            whole
          />
        )}
      </section>
      <section className="panel" aria-labelledby="filling-title">
        <header>
          <h2 id="filling-title">Storage that fills up next</h2>
        </header>
        {t &&
          (t.filling.length === 0 ? (
            <p className="muted" style={{ margin: 0 }}>
              None grows towards its end.
            </p>
          ) : (
            <ul className="history">
              {t.filling.map((f) => (
                <li key={f.hostId} className="whose">
                  <Emblem customer={customerOf(f.groupPath)} />
                  <Link to={`/hosts/${f.hostId}`}>{f.label}</Link>
                  <span className="muted" title={minute(f.fullAt)}>
                    {readable(f.groupPath)}, <span className="mono">{f.mount}</span>{" "}
                    {f.usedPercent != null && `${Math.round(f.usedPercent)} %, `}
                    {Date.parse(f.fullAt) <= now ? "full at any moment" : `full in ${span(Date.parse(f.fullAt) - now)}`}
                  </span>
                </li>
              ))}
            </ul>
          ))}
      </section>
    </div>
  );
}

/** One line for each severity, the worst first. */
export function trendLines(t: HealthTrend): MetricLine[] {
  return (["critical", "warning", "information"] as const).map((severity) => ({
    metric: "alerts",
    part: severity,
    unit: "count",
    min: t[severity],
    mean: t[severity],
    max: t[severity],
  }));
}
