import createClient from "openapi-fetch";
import type { paths } from "./schema.generated";
import type { Problem } from "./types";

/** The service said no; `message` is its own sentence, `word` the stable name of the problem. */
export class ServiceProblem extends Error {
  constructor(
    readonly problem: Problem,
    readonly status: number,
  ) {
    super(problem.detail ?? problem.title ?? `The service answered ${status}.`);
  }

  get word(): string {
    return (this.problem.type ?? "").replace("urn:umbrek:problem:", "");
  }
}

export const api = createClient<paths>({
  baseUrl: window.location.origin,
  // Looked up at each call, so that a test can put its own in its place.
  fetch: (request) => globalThis.fetch(request),
});

interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

/** The data of an answer; anything else is thrown as {@link ServiceProblem}. */
export async function ask<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await call;
  } catch {
    throw new ServiceProblem(
      {
        type: "urn:umbrek:problem:unreachable",
        title: "Unreachable",
        status: 0,
        detail: "The service does not answer. Check the network; the page goes on when it is back.",
      },
      0,
    );
  }
  if (answer.response.ok) {
    return answer.data as T;
  }
  throw new ServiceProblem((answer.error ?? {}) as Problem, answer.response.status);
}
