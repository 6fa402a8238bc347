import { describe, expect, it } from "vitest";
import { ServiceProblem } from "./client";
import { isTransient } from "./queries";

const problem = { type: null, title: null, status: null, detail: null };

describe("isTransient", () => {
  it.each([400, 401, 403, 404, 409, 412, 422])("is false for %i: the service has decided", (status) => {
    expect(isTransient(new ServiceProblem(problem, status))).toBe(false);
  });

  it.each([408, 429, 500, 502, 503])("is true for %i: it may go better later", (status) => {
    expect(isTransient(new ServiceProblem(problem, status))).toBe(true);
  });

  it("is true where the service was not reached", () => {
    expect(isTransient(new TypeError("Failed to fetch"))).toBe(true);
  });
});
