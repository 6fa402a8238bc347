import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import type { MetricLine, SeriesMark, Severity } from "../api/types";
import { figure, timeTicks } from "./figures";

interface Props {
  title: string;
  /** One line, or several of one metric (file systems, interfaces). */
  lines: MetricLine[];
  at: number[];
  from: number;
  to: number;
  marks?: SeriesMark[];
  /** Drawn across, where an alert has one. */
  threshold?: number;
  height?: number;
  /** Graphs with the same word move their cursors together. */
  together?: string;
  onZoom?: (from: number, to: number) => void;
  /** Colours of the lines, where they mean something. */
  strokes?: readonly string[];
  /** There are no halves of what is counted. */
  whole?: boolean;
}

const tone: Record<Severity, string> = { critical: "--trouble", warning: "--warning", information: "--info" };
const usualStrokes = ["--info", "--warning", "--lamp", "--text", "--muted", "--trouble"] as const;

/** Seconds without a reading that are still one line: points may be finer than readings. */
const STILL_ONE = 600;

const gaps: uPlot.Series.GapsRefiner = (u, _series, _from, _to, nulls) =>
  nulls.filter(
    ([a, b]) => u.posToVal(b, "x", true) - u.posToVal(a, "x", true) > Math.max(STILL_ONE, 4 * stepOf(u.data[0])),
  );

const stepOf = (at: ArrayLike<number>) => (at.length > 1 ? (at[1] ?? 0) - (at[0] ?? 0) : 0);

const strokeOf = (line: number, strokes: readonly string[]): string => strokes[line % strokes.length] ?? "--info";

/** A metric over a time: its mean as a line, from least to most as a band, alerts and jobs marked on the time axis. */
export function MetricGraph(props: Props) {
  const { title, lines, at, from, to, marks = [], threshold, height = 96, together, onZoom } = props;
  const strokes = props.strokes ?? usualStrokes;
  const strokeWords = strokes.join(" ");
  const whole = props.whole ?? false;
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(null);
  const shown = useRef({ marks, threshold });
  const zoom = useRef(onZoom);
  const unit = lines[0]?.unit ?? "count";
  const shape = `${lines.length} ${unit} ${together ?? ""} ${height}`;

  useEffect(() => {
    zoom.current = onZoom;
  });

  useEffect(() => {
    const target = box.current;
    if (!target) return;
    const style = getComputedStyle(document.documentElement);
    const colour = (name: string) => style.getPropertyValue(name).trim() || "#888";
    const axis = {
      stroke: colour("--muted"),
      grid: { stroke: colour("--line"), width: 1 },
      ticks: { show: false },
      font: "12px Atkinson Hyperlegible Next Variable",
    };
    const series: uPlot.Series[] = [{}];
    const bands: uPlot.Band[] = [];
    for (let i = 0; i < Number(shape.split(" ")[0]); i++) {
      const stroke = colour(strokeOf(i, strokeWords.split(" ")));
      series.push(
        { stroke: "transparent", points: { show: false }, gaps },
        { stroke: "transparent", points: { show: false }, gaps },
        { stroke, width: 1.6, points: { show: false }, gaps },
      );
      bands.push({ series: [3 * i + 1, 3 * i + 2], fill: stroke + "2e" });
    }
    const made = new uPlot(
      {
        width: target.clientWidth || 400,
        height,
        legend: { show: false },
        cursor: { y: false, ...(together ? { sync: { key: together } } : {}) },
        padding: [6, 4, 0, 0],
        scales: {
          x: { time: true },
          y: {
            range:
              unit === "percent"
                ? [0, 100]
                : (_, __, most) => [0, Math.max(most, shown.current.threshold ?? 0, 1) * 1.1],
          },
        },
        axes: [
          {
            ...axis,
            size: 20,
            space: 90,
            values: (_: uPlot, at: number[], __: number, ___: number, step: number) => timeTicks(at, step),
          },
          {
            ...axis,
            size: unit === "percent" ? 34 : 62,
            ...(unit === "percent"
              ? { splits: () => [0, 50, 100] }
              : { space: 34, ...(whole ? { incrs: [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 10_000] } : {}) }),
            values: (_: uPlot, values: number[]) => values.map((v) => figure(v, unit, true)),
          },
        ],
        series,
        bands,
        hooks: {
          draw: [(u) => drawMarks(u, shown.current, colour)],
          setSelect: [
            (u) => {
              if (u.select.width > 8)
                zoom.current?.(u.posToVal(u.select.left, "x"), u.posToVal(u.select.left + u.select.width, "x"));
              u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
            },
          ],
        },
      },
      [[], ...series.slice(1).map(() => [])] as uPlot.AlignedData,
      target,
    );
    plot.current = made;
    const resize = new ResizeObserver(() => made.setSize({ width: target.clientWidth || 400, height }));
    resize.observe(target);
    return () => {
      resize.disconnect();
      made.destroy();
    };
  }, [shape, unit, height, together, strokeWords, whole]);

  useEffect(() => {
    shown.current = { marks, threshold };
    plot.current?.batch(() => {
      plot.current?.setData([at, ...lines.flatMap((l) => [l.max, l.min, l.mean])] as uPlot.AlignedData, false);
      plot.current?.setScale("x", { min: from, max: to });
      if (unit === "percent") plot.current?.setScale("y", { min: 0, max: 100 });
      else {
        const most = Math.max(1, threshold ?? 0, ...lines.flatMap((l) => l.max.map((v) => v ?? 0)));
        plot.current?.setScale("y", { min: 0, max: most * 1.1 });
      }
    });
  }, [at, lines, from, to, marks, threshold, unit]);

  return (
    <div className="graph">
      <div className="graph-head">
        <span>{title}</span>
        <span className="graph-now">
          {lines.map((l, i) => (
            <b key={l.part} style={lines.length > 1 ? { color: `var(${strokeOf(i, strokes)})` } : undefined}>
              {lines.length > 1 && <span className="mono graph-part">{l.part}</span>} {latest(l)}
            </b>
          ))}
          {lines.length === 0 && <b>–</b>}
        </span>
      </div>
      <div ref={box} role="img" aria-label={inWords(title, lines, threshold)} />
    </div>
  );
}

const latest = (line: MetricLine) => {
  const last = line.mean.findLast((v) => v !== null);
  return last == null ? "–" : figure(last, line.unit);
};

function inWords(title: string, lines: MetricLine[], threshold: number | undefined): string {
  const said = lines.map((l) => {
    const most = Math.max(...l.max.map((v) => v ?? -Infinity));
    return `${l.part ? `${l.part} ` : ""}now ${latest(l)}, at most ${Number.isFinite(most) ? figure(most, l.unit) : "–"}`;
  });
  const line = threshold === undefined ? "" : `; an alert is raised at ${figure(threshold, lines[0]?.unit ?? "count")}`;
  return said.length === 0 ? `${title}: no reading in this time` : `${title}: ${said.join("; ")}${line}`;
}

/** Alerts as bars along the top for as long as they last, jobs as ticks along the bottom, the threshold across. */
function drawMarks(
  u: uPlot,
  shown: { marks: SeriesMark[]; threshold: number | undefined },
  colour: (n: string) => string,
) {
  const { ctx } = u;
  const { left, top, width, height } = u.bbox;
  const x = (seconds: number) => Math.min(left + width, Math.max(left, u.valToPos(seconds, "x", true)));
  ctx.save();
  for (const mark of shown.marks) {
    const begin = x(Date.parse(mark.at) / 1000);
    if (mark.kind === "alert") {
      const end = mark.until ? x(Date.parse(mark.until) / 1000) : left + width;
      ctx.fillStyle = colour(tone[mark.severity ?? "information"]);
      ctx.fillRect(begin, top, Math.max(3, end - begin), 4 * devicePixelRatio);
      ctx.globalAlpha = 0.1;
      ctx.fillRect(begin, top, Math.max(3, end - begin), height);
      ctx.globalAlpha = 1;
    } else {
      ctx.fillStyle = colour("--lamp");
      ctx.fillRect(begin, top + height - 8 * devicePixelRatio, 2 * devicePixelRatio, 8 * devicePixelRatio);
    }
  }
  if (shown.threshold !== undefined) {
    const y = u.valToPos(shown.threshold, "y", true);
    ctx.strokeStyle = colour("--trouble");
    ctx.setLineDash([6 * devicePixelRatio, 4 * devicePixelRatio]);
    ctx.lineWidth = 1.4 * devicePixelRatio;
    ctx.beginPath();
    ctx.moveTo(left, y);
    ctx.lineTo(left + width, y);
    ctx.stroke();
  }
  ctx.restore();
}
