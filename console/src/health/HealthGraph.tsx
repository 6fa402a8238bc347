import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";

interface Props {
  title: string;
  at: number[];
  values: number[];
  from: number;
  to: number;
}

const HEIGHT = 76;

/** One figure over a time, 0 to 100 percent; what it shows is said in words too. */
export function HealthGraph({ title, at, values, from, to }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(null);
  const last = values.at(-1);
  const highest = values.length > 0 ? Math.max(...values) : undefined;

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
    const made = new uPlot(
      {
        width: target.clientWidth || 400,
        height: HEIGHT,
        legend: { show: false },
        cursor: { y: false },
        padding: [6, 4, 0, 0],
        scales: { x: { time: true }, y: { range: [0, 100] } },
        axes: [
          { ...axis, size: 20, space: 90, values: "{HH}:{mm}" },
          { ...axis, size: 34, splits: () => [0, 50, 100] },
        ],
        series: [
          {},
          {
            stroke: colour("--info"),
            width: 1.6,
            fill: colour("--info") + "2b",
            points: { show: false },
            spanGaps: false,
          },
        ],
      },
      [[], []],
      target,
    );
    plot.current = made;
    const resize = new ResizeObserver(() => made.setSize({ width: target.clientWidth || 400, height: HEIGHT }));
    resize.observe(target);
    return () => {
      resize.disconnect();
      made.destroy();
    };
  }, []);

  useEffect(() => {
    plot.current?.batch(() => {
      plot.current?.setData([at, values], false);
      plot.current?.setScale("x", { min: from, max: to });
      plot.current?.setScale("y", { min: 0, max: 100 });
    });
  }, [at, values, from, to]);

  const words =
    last === undefined
      ? `${title}: no reading in this time`
      : `${title}: now ${Math.round(last)} percent, at most ${Math.round(highest ?? 0)} percent`;
  return (
    <div className="graph">
      <div className="graph-head">
        <span>{title}</span>
        <b>{last === undefined ? "–" : `${Math.round(last)} %`}</b>
      </div>
      <div ref={box} role="img" aria-label={words} />
    </div>
  );
}
