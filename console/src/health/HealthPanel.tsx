import { SegmentedControl } from "@mantine/core";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../api/client";
import type { Sample } from "../api/types";
import { bytes, span } from "../parts/time";
import { Trouble } from "../parts/Trouble";
import { HealthGraph } from "./HealthGraph";

const windows = { "1 h": 3600, "6 h": 6 * 3600, "24 h": 24 * 3600, "48 h": 48 * 3600 } as const;
type Window = keyof typeof windows;

function useSeries(hostId: string, window: Window) {
  return useQuery({
    queryKey: ["samples", hostId, window],
    queryFn: () => {
      const to = new Date();
      const from = new Date(to.getTime() - windows[window] * 1000);
      return ask(
        api.GET("/api/v1/hosts/{id}/samples", {
          params: { path: { id: hostId }, query: { from: from.toISOString(), to: to.toISOString(), points: 200 } },
        }),
      );
    },
    refetchInterval: 15_000,
    placeholderData: keepPreviousData,
  });
}

export function HealthPanel({ hostId, latest }: { hostId: string; latest: Sample | null | undefined }) {
  const [window, setWindow] = useState<Window>("1 h");
  const series = useSeries(hostId, window);
  const data = series.data;
  const shown = data && { at: data.at, from: Date.parse(data.from) / 1000, to: Date.parse(data.to) / 1000 };
  return (
    <section className="panel" aria-labelledby="health-title">
      <header>
        <h2 id="health-title">Health</h2>
        <SegmentedControl
          size="xs"
          aria-label="Time shown"
          data={Object.keys(windows)}
          value={window}
          onChange={(v) => setWindow(v as Window)}
        />
      </header>
      <Trouble error={series.error} />
      {data && shown && (
        <>
          <HealthGraph title="Processor" values={data.processorPercent} {...shown} />
          <HealthGraph title="Memory" values={data.memoryUsedPercent} {...shown} />
          <HealthGraph title="Fullest storage" values={data.storageUsedPercent} {...shown} />
        </>
      )}
      {latest ? (
        <dl className="facts">
          <dt>Memory</dt>
          <dd>
            {bytes(latest.memoryAvailableBytes)} available of {bytes(latest.memoryTotalBytes)}
          </dd>
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
