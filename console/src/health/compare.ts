import type { MetricLine, MetricSeries } from "../api/types";

/** Series of several hosts on one time axis, a line for each host and part; times that one has not are gaps in its line. */
export function compared(hosts: { label: string; series: MetricSeries }[]): { at: number[]; lines: MetricLine[] } {
  const at = [...new Set(hosts.flatMap((h) => h.series.at))].sort((a, b) => a - b);
  const place = new Map(at.map((time, i) => [time, i]));
  const lines = hosts.flatMap(({ label, series }) =>
    series.lines.map((line) => {
      const mean: (number | null)[] = at.map(() => null);
      series.at.forEach((time, i) => {
        const where = place.get(time);
        if (where !== undefined) mean[where] = line.mean[i] ?? null;
      });
      // Bands of several hosts over each other could not be read.
      return { ...line, part: series.lines.length > 1 ? `${label} ${line.part}` : label, min: mean, mean, max: mean };
    }),
  );
  return { at, lines };
}
