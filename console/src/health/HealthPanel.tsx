import { Button, Menu, SegmentedControl } from "@mantine/core";
import { useRef, useState } from "react";
import { Link } from "react-router";
import type { MetricSeries, Sample } from "../api/types";
import { usePreference } from "../parts/usePreference";
import { bytes, minute, span } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { metrics, metricTitle, seriesCsv } from "./figures";
import { MetricGraph } from "./MetricGraph";
import { type Span, useSeries } from "./useSeries";

const HOUR = 3600;
const windows = {
  Hour: HOUR,
  Day: 24 * HOUR,
  Week: 7 * 24 * HOUR,
  Month: 30 * 24 * HOUR,
  Year: 365 * 24 * HOUR,
} as const;
type Window = keyof typeof windows;

const usual = ["processor", "memory.used", "storage.used"];

/** A host's figures on one time axis, with its alerts and jobs marked; dragging over a graph looks closer. */
export function HealthPanel({
  hostId,
  label,
  latest,
}: {
  hostId: string;
  label: string;
  latest: Sample | null | undefined;
}) {
  const [window, setWindow] = useState<Window>("Hour");
  const [closer, setCloser] = useState<Span>();
  const [chosen, setChosen] = usePreference<string[]>("graphs", usual);
  const box = useRef<HTMLDivElement>(null);
  const series = useSeries(hostId, chosen, closer ?? { last: windows[window] });
  const data = series.data;
  const shown = data && {
    at: data.at,
    from: Date.parse(data.from) / 1000,
    to: Date.parse(data.to) / 1000,
    marks: data.marks,
    together: hostId,
    onZoom: (from: number, to: number) => setCloser({ from, to }),
  };
  return (
    <section className="panel" aria-labelledby="health-title">
      <header>
        <h2 id="health-title">Health</h2>
        <Link to={`/hosts/compare?hosts=${hostId}`}>Compare with others</Link>
        <span className="acts">
          <SegmentedControl
            size="xs"
            aria-label="Time shown"
            data={Object.keys(windows)}
            value={window}
            onChange={(v) => {
              setWindow(v as Window);
              setCloser(undefined);
            }}
          />
          <Menu position="bottom-end" shadow="md" closeOnItemClick={false}>
            <Menu.Target>
              <Button size="compact-sm" variant="subtle" color="gray" aria-label="Which graphs, and export">
                Graphs
              </Button>
            </Menu.Target>
            <Menu.Dropdown>
              {metrics.map((m) => (
                <Menu.Item
                  key={m.name}
                  role="menuitemcheckbox"
                  aria-checked={chosen.includes(m.name)}
                  leftSection={<span aria-hidden="true">{chosen.includes(m.name) ? "✓" : " "}</span>}
                  onClick={() =>
                    setChosen(
                      chosen.includes(m.name)
                        ? chosen.filter((c) => c !== m.name)
                        : metrics.map((x) => x.name).filter((n) => chosen.includes(n) || n === m.name),
                    )
                  }
                >
                  {m.title}
                </Menu.Item>
              ))}
              <Menu.Divider />
              <Menu.Item disabled={!data} onClick={() => data && saveCsv(data, label)}>
                Save the figures as CSV
              </Menu.Item>
              <Menu.Item disabled={!data} onClick={() => box.current && savePng(box.current, label)}>
                Save the graphs as PNG
              </Menu.Item>
            </Menu.Dropdown>
          </Menu>
        </span>
      </header>
      {closer && "from" in closer && (
        <p className="muted closer">
          {minute(new Date(closer.from * 1000).toISOString())} to {minute(new Date(closer.to * 1000).toISOString())}{" "}
          <Button size="compact-xs" variant="default" onClick={() => setCloser(undefined)}>
            Show the {window.toLowerCase()} again
          </Button>
        </p>
      )}
      <Trouble error={series.error} />
      {chosen.length === 0 && <p className="muted">No graph is chosen. “Graphs” has them all.</p>}
      <div ref={box}>
        {data &&
          shown &&
          chosen.map((name) => (
            <MetricGraph
              key={name}
              title={metricTitle(name)}
              lines={data.lines.filter((l) => l.metric === name)}
              {...shown}
            />
          ))}
      </div>
      {latest ? (
        <dl className="facts">
          <dt>Memory</dt>
          <dd>
            {bytes(latest.memoryAvailableBytes)} available of {bytes(latest.memoryTotalBytes)}
          </dd>
          {latest.cores.length > 1 && (
            <>
              <dt>Each processor</dt>
              <dd>
                <Cores busy={latest.cores} />
              </dd>
            </>
          )}
          <dt>Load</dt>
          <dd className="mono">
            {latest.load1.toFixed(2)} {latest.load5.toFixed(2)} {latest.load15.toFixed(2)}
          </dd>
          <dt>Up for</dt>
          <dd>{span(latest.uptimeSeconds * 1000)}</dd>
          {latest.fileSystems.map((f) => (
            <div key={f.mountPoint} style={{ display: "contents" }}>
              <dt className="mono">{f.mountPoint}</dt>
              <dd>
                {Math.round(f.usedPercent)} % of {bytes(f.totalBytes)}, {bytes(f.availableBytes)} free
              </dd>
            </div>
          ))}
          {latest.interfaces.map((i) => (
            <div key={i.name} style={{ display: "contents" }}>
              <dt className="mono">{i.name}</dt>
              <dd>
                {bytes(i.receivedBytesPerSecond)}/s in, {bytes(i.sentBytesPerSecond)}/s out
              </dd>
            </div>
          ))}
        </dl>
      ) : (
        <p className="muted">This host has reported no health yet.</p>
      )}
    </section>
  );
}

/** How busy each processor is: a column each, with all figures in words. */
function Cores({ busy }: { busy: number[] }) {
  const words = busy.map((b) => `${Math.round(b)} %`).join(", ");
  return (
    <svg className="cores" width={busy.length * 9} height={22} role="img" aria-label={words}>
      <title>{words}</title>
      {busy.map((b, i) => (
        <g key={i}>
          <rect className="core" x={i * 9} y={0} width={7} height={22} />
          <rect className="core-busy" x={i * 9} y={22 - (22 * b) / 100} width={7} height={(22 * b) / 100} />
        </g>
      ))}
    </svg>
  );
}

function save(blob: Blob, name: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}

const saveCsv = (data: MetricSeries, label: string) =>
  save(new Blob([seriesCsv(data)], { type: "text/csv" }), `${label}.csv`);

/** The graphs as they stand, below each other with their titles. */
function savePng(box: HTMLElement, label: string) {
  const graphs = [...box.querySelectorAll<HTMLElement>(".graph")];
  const plots = graphs.flatMap((g) => g.querySelector("canvas") ?? []);
  const scale = devicePixelRatio;
  const title = 22 * scale;
  const canvas = document.createElement("canvas");
  canvas.width = Math.max(1, ...plots.map((c) => c.width));
  canvas.height = Math.max(
    1,
    plots.reduce((sum, c) => sum + c.height + title, 0),
  );
  const ctx = canvas.getContext("2d");
  if (!ctx) return;
  const style = getComputedStyle(document.documentElement);
  ctx.fillStyle = style.getPropertyValue("--raised");
  ctx.fillRect(0, 0, canvas.width, canvas.height);
  ctx.fillStyle = style.getPropertyValue("--text");
  ctx.font = `${13 * scale}px Atkinson Hyperlegible Next Variable`;
  let y = 0;
  plots.forEach((plot, i) => {
    ctx.fillText(`${label}: ${graphs[i]?.querySelector(".graph-head")?.textContent ?? ""}`, 4 * scale, y + 15 * scale);
    ctx.drawImage(plot, 0, y + title);
    y += plot.height + title;
  });
  canvas.toBlob((blob) => blob && save(blob, `${label}.png`), "image/png");
}
