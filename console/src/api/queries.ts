import { QueryClient } from "@tanstack/react-query";
import { ServiceProblem } from "./client";

const MOST_RETRIES = 3;

/** Whether the same request may succeed later: the service was not reached, is busy or has failed. What it refuses stays refused. */
export const isTransient = (error: Error): boolean =>
  !(error instanceof ServiceProblem) || error.status >= 500 || error.status === 408 || error.status === 429;

/** The cache of everything that the console reads, as the program and its tests use it. */
export const newQueryClient = (): QueryClient =>
  new QueryClient({
    defaultOptions: {
      queries: {
        staleTime: 5000,
        refetchOnWindowFocus: true,
        retry: (count, error) => count < MOST_RETRIES && isTransient(error),
      },
    },
  });
