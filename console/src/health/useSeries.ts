import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import type { MetricSeries } from "../api/types";

/** A time that is drawn: the last so many seconds, or from one moment to another (Unix time, seconds). */
export type Span = { last: number } | { from: number; to: number };

export const useSeries = (hostId: string, metrics: string[], span: Span, points = 360) =>
  useQuery({
    queryKey: ["series", hostId, metrics, span, points],
    queryFn: async () => {
      const to = "last" in span ? Date.now() / 1000 : span.to;
      const from = "last" in span ? to - span.last : span.from;
      return (await ask(
        api.GET("/api/v1/hosts/{id}/series", {
          params: {
            path: { id: hostId },
            query: {
              metrics: metrics.join(","),
              from: new Date(from * 1000).toISOString(),
              to: new Date(to * 1000).toISOString(),
              points,
            },
          },
        }),
      )) as MetricSeries;
    },
    refetchInterval: "last" in span && span.last <= 86_400 ? 15_000 : 300_000,
    placeholderData: keepPreviousData,
  });
