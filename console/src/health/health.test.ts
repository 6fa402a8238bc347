import { describe, expect, it } from "vitest";
import type { AlertInfo, MetricSeries } from "../api/types";
import { compared } from "./compare";
import { trendLines } from "./TrendPanel";
import { figure, metricTitle, seriesCsv, timeTicks } from "./figures";
import { stateWords } from "./severity";
import { scopeSelection } from "./useAlerts";

const now = Date.parse("2026-11-26T12:00:00Z");

const alert = (part: Partial<AlertInfo>): AlertInfo => ({
  id: "a",
  hostId: "h",
  label: "ripening-climate-02",
  systemName: "ripening-climate-02",
  groupPath: "Tarn Valley Creamery/Ripening Store",
  check: "storage-high",
  checkName: "Storage nearly full",
  subsystem: "storage",
  severity: "warning",
  state: "open",
  raisedAt: "2026-11-26T11:00:00Z",
  what: "/ is full",
  follows: null,
  fix: null,
  stateBy: null,
  snoozedUntil: null,
  note: null,
  stateAt: "2026-11-26T11:30:00Z",
  ...part,
});

describe("figures", () => {
  it("say their unit, short where an axis has it", () => {
    expect(figure(93.4, "percent")).toBe("93 %");
    expect(figure(0.4, "percent")).toBe("0.4 %");
    expect(figure(93.4, "percent", true)).toBe("93");
    expect(figure(2048, "size")).toBe("2.0 KiB");
    expect(figure(0.25, "count")).toBe("0.25");
    expect(figure(212, "count")).toBe("212");
  });

  it("have titles for people, and a name that is not known is its own", () => {
    expect(metricTitle("memory.used")).toBe("Memory in use");
    expect(metricTitle("tide.height")).toBe("tide.height");
  });

  it("become CSV with one row a time, and a gap where nothing is known", () => {
    const series: MetricSeries = {
      from: "2026-11-26T11:00:00Z",
      to: "2026-11-26T12:00:00Z",
      stepSeconds: 60,
      at: [1_700_000_000, 1_700_000_060],
      marks: [],
      lines: [
        { metric: "processor", part: "", unit: "percent", min: [1, null], mean: [2, null], max: [3, null] },
        { metric: "storage.used", part: "/srv,a", unit: "percent", min: [1, 4], mean: [2, 5], max: [3, 6] },
      ],
    };
    expect(seriesCsv(series)).toBe(
      'time,processor,"storage.used /srv,a"\r\n2023-11-14T22:13:20.000Z,2,2\r\n2023-11-14T22:14:20.000Z,,5\r\n',
    );
  });
});

describe("the state of an alert", () => {
  it("names who is at it, and for how long it is quiet", () => {
    expect(stateWords(alert({}), now)).toBe("open");
    expect(stateWords(alert({ state: "acknowledged", stateBy: "Ines Okafor" }), now)).toBe("Ines Okafor is at it");
    expect(
      stateWords(alert({ state: "snoozed", stateBy: "Ines Okafor", snoozedUntil: "2026-11-26T14:00:00Z" }), now),
    ).toBe("quiet for 2 h more, by Ines Okafor");
    expect(stateWords(alert({ state: "cleared" }), now)).toBe("cleared 30 min ago");
  });
});

describe("a scope", () => {
  it("is a selection of everything below it", () => {
    expect(scopeSelection("")).toBeUndefined();
    expect(scopeSelection('Quay "left"')).toBe('in "Quay \\"left\\""');
  });
});

describe("times along a graph", () => {
  it("are as fine as they stand apart, and name the day where one begins", () => {
    const at = (text: string) => new Date(text).getTime() / 1000;
    const [evening, night, morning] = timeTicks(
      [at("2026-11-25T22:00"), at("2026-11-26T00:00"), at("2026-11-26T02:00")],
      7200,
    );
    expect([evening, morning]).toEqual(["22:00", "02:00"]);
    expect(night).toMatch(/26/);
    expect(timeTicks([at("2026-11-26T09:00")], 30)[0]).toBe("09:00:00");
    expect(timeTicks([at("2026-11-26T09:00")], 86_400)[0]).toMatch(/26/);
    expect(timeTicks([at("2026-11-01T00:00")], 30 * 86_400)[0]).toMatch(/2026/);
  });
});

describe("hosts compared", () => {
  const series = (at: number[], mean: (number | null)[], part = ""): MetricSeries => ({
    from: "2026-11-26T11:00:00Z",
    to: "2026-11-26T12:00:00Z",
    stepSeconds: 60,
    at,
    lines: [{ metric: "processor", part, unit: "percent", min: mean, mean, max: mean }],
    marks: [],
  });

  it("stand on one time axis, with gaps where one has no reading", () => {
    const graph = compared([
      { label: "plover-log-01", series: series([60, 120], [10, 20]) },
      { label: "plover-log-02", series: series([120, 180], [30, null], "/data") },
    ]);
    expect(graph.at).toEqual([60, 120, 180]);
    expect(graph.lines.map((l) => [l.part, l.mean])).toEqual([
      ["plover-log-01", [10, 20, null]],
      ["plover-log-02", [null, 30, null]],
    ]);
    expect(compared([])).toEqual({ at: [], lines: [] });
  });

  it("a trend has a line for each severity, the worst first", () => {
    const trend = { from: "", stepSeconds: 3600, at: [1, 2], critical: [1, 0], warning: [2, 2], information: [0, 3] };
    expect(trendLines({ ...trend, filling: [] }).map((l) => [l.part, l.mean])).toEqual([
      ["critical", [1, 0]],
      ["warning", [2, 2]],
      ["information", [0, 3]],
    ]);
  });
});
