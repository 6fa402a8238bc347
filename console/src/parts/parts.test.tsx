import { render, screen } from "@testing-library/react";
import { describe, expect, it } from "vitest";
import { ask, ServiceProblem } from "../api/client";
import { retryDelay } from "../api/live";
import { csvOf } from "./file";
import { bytes, span } from "./time";
import { Trouble } from "./Trouble";

describe("times and sizes", () => {
  it.each([
    [4000, "4 s"],
    [240_000, "4 min"],
    [11_520_000, "3 h 12 min"],
    [9 * 86_400_000 + 3_600_000, "9 d"],
    [-1, "0 s"],
  ])("%d ms is %s", (ms, words) => expect(span(ms)).toBe(words));
  it.each([
    [0, "0 B"],
    [1536, "1.5 KiB"],
    [270 * 2 ** 30, "270 GiB"],
  ])("%d bytes is %s", (size, words) => expect(bytes(size)).toBe(words));
});

describe("CSV", () => {
  it.each([
    ["quay-ticket-01", "quay-ticket-01"],
    ['desk "left", 2', '"desk ""left"", 2"'],
    ["two\nlines", '"two\nlines"'],
    ["-3.5", "-3.5"],
    ["+12 %", "+12 %"],
    ["=1+1", "'=1+1"],
    ['=HYPERLINK("x")', '"\'=HYPERLINK(""x"")"'],
    ["-1+cmd", "'-1+cmd"],
    ["@SUM(A1)", "'@SUM(A1)"],
    ["\t=1", "'\t=1"],
  ])("writes %j so that it stays a text", (text, written) => {
    expect(csvOf([[text, "x"]])).toBe(`${written},x\r\n`);
  });
});

describe("a broken line", () => {
  it("is tried again with growing, spread, bounded waits", () => {
    expect(retryDelay(0, () => 0)).toBe(250);
    expect(retryDelay(3, () => 1)).toBe(4000);
    expect(retryDelay(1000, () => 1)).toBe(10_000);
  });
});

describe("trouble", () => {
  it("is told in the service's own words", async () => {
    const problem = {
      type: "urn:umbrek:problem:conflict",
      title: "Conflict",
      status: 409,
      detail: "There is a group already.",
    };
    const answer = Promise.resolve({ error: problem, response: new Response(null, { status: 409 }) });
    const error = await ask(answer).catch((e: unknown) => e);
    expect(error).toBeInstanceOf(ServiceProblem);
    expect((error as ServiceProblem).word).toBe("conflict");
    render(<Trouble error={error} />);
    expect(screen.getByRole("alert")).toHaveTextContent("There is a group already.");
  });
  it("of a service that does not answer says so", async () => {
    const error = await ask(Promise.reject(new TypeError("failed"))).catch((e: unknown) => e);
    expect((error as ServiceProblem).message).toContain("does not answer");
  });
});
