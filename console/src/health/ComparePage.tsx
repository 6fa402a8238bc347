import { MultiSelect, SegmentedControl, Select } from "@mantine/core";
import { keepPreviousData, useQueries } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { api, ask } from "../api/client";
import type { MetricSeries } from "../api/types";
import { useEstate, useHostOptions } from "../estate/useEstate";
import { useNow } from "../parts/Ago";
import { Empty, Trouble } from "../parts/Trouble";
import { compared } from "./compare";
import { metrics, metricTitle } from "./figures";
import { MetricGraph } from "./MetricGraph";

const HOUR = 3600;
const spans: Record<string, number> = { hour: HOUR, day: 24 * HOUR, week: 7 * 24 * HOUR, month: 30 * 24 * HOUR };

/** There are no more lines that can be told apart. */
const mostHosts = 6;
const points = 240;

/** One figure of several hosts on one time axis; what is compared stands in the address. */
export function ComparePage() {
  const [params, setParams] = useSearchParams();
  const { hosts } = useEstate();
  const options = useHostOptions();
  const ids = (params.get("hosts") ?? "").split(",").filter(Boolean).slice(0, mostHosts);
  const metric = params.get("metric") ?? "processor";
  const word = params.get("span") ?? "day";
  const last = spans[word] ?? 24 * HOUR;
  // One time for all of them, that stays for as long as one point does.
  const step = Math.max(60, last / points);
  const to = Math.ceil(useNow(30_000) / 1000 / step) * step;
  const from = to - last;
  const series = useQueries({
    queries: ids.map((id) => ({
      queryKey: ["series", id, [metric], { from, to }, points],
      queryFn: async () =>
        (await ask(
          api.GET("/api/v1/hosts/{id}/series", {
            params: {
              path: { id },
              query: {
                metrics: metric,
                from: new Date(from * 1000).toISOString(),
                to: new Date(to * 1000).toISOString(),
                points,
              },
            },
          }),
        )) as MetricSeries,
      placeholderData: keepPreviousData,
    })),
  });
  const set = (name: string, value: string) =>
    setParams(
      (before) => {
        const next = new URLSearchParams(before);
        if (value) next.set(name, value);
        else next.delete(name);
        return next;
      },
      { replace: true },
    );
  const graph = compared(
    ids.flatMap((id, i) => {
      const data = series[i]?.data;
      return data ? [{ label: hosts.get(id)?.label ?? "a host", series: data }] : [];
    }),
  );
  const silent = ids.filter((_, i) => series[i]?.data?.lines.length === 0).map((id) => hosts.get(id)?.label ?? id);
  return (
    <main className="page">
      <div className="page-head">
        <h1>Hosts compared</h1>
        <SegmentedControl
          style={{ marginLeft: "auto" }}
          aria-label="Time shown"
          data={Object.keys(spans)}
          value={word}
          onChange={(v) => set("span", v)}
        />
      </div>
      <div className="compare-choice">
        <MultiSelect
          label="Hosts"
          description={`Up to ${mostHosts}: more lines could not be told apart.`}
          searchable
          limit={50}
          maxValues={mostHosts}
          data={options}
          value={ids}
          onChange={(v) => set("hosts", v.join(","))}
        />
        <Select
          label="Figure"
          data={metrics.map((m) => ({ value: m.name, label: m.title }))}
          value={metric}
          onChange={(v) => set("metric", v ?? "processor")}
          allowDeselect={false}
        />
      </div>
      <Trouble error={series.find((s) => s.error)?.error} />
      {ids.length === 0 && (
        <Empty title="No host is chosen">
          Choose hosts above, or mark them in the list of hosts and compare them from there.
        </Empty>
      )}
      {silent.length > 0 && <p className="muted">Nothing is known of that time of {silent.join(", ")}.</p>}
      {graph.lines.length > 0 && (
        <section className="panel" aria-label={metricTitle(metric)}>
          <MetricGraph title={metricTitle(metric)} {...graph} from={from} to={to} height={380} />
        </section>
      )}
    </main>
  );
}
