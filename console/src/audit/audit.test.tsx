import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { AuditInfo } from "../api/types";
import { type Answering, answering, show } from "../test-pages";
import { AuditPage } from "./AuditPage";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

let service: Answering;
let queries: URLSearchParams[];

const line = (number: number, news: Partial<AuditInfo> = {}): AuditInfo => ({
  number,
  at: "2026-11-28T09:02:00Z",
  actor: "Ines Okafor",
  address: "192.0.2.7",
  action: "job.new",
  target: "quay-ticket-01 in Saltmarsh Ferry/Quay",
  detail: '{"command":"uptime"}',
  hash: "",
  ...news,
});

beforeEach(() => {
  service = answering();
  queries = [];
  const answer = globalThis.fetch;
  vi.stubGlobal("fetch", (request: Request) => {
    const { pathname, searchParams } = new URL(request.url);
    if (pathname.endsWith("/audit")) queries.push(searchParams);
    return answer(request);
  });
  service.answers["GET me"] = [200, { name: "Ines Okafor", everywhere: ["administer"], anywhere: ["administer"] }];
  service.answers["GET audit"] = [
    200,
    {
      items: [line(120), line(119, { action: "sign-in.refuse", actor: "nobody", target: "sign-in", detail: "{}" })],
      total: 120,
      nextCursor: "119",
    },
  ];
});
afterEach(() => vi.unstubAllGlobals());

describe("the audit log", () => {
  it("shows who did what to what, and from where", async () => {
    show(<AuditPage />);
    const table = await screen.findByRole("table", { name: "Audit log" });
    const [, first, refused] = within(table).getAllByRole("row");
    expect(first).toHaveTextContent(
      /120.*Ines Okafor 192\.0\.2\.7.*job\.new.*quay-ticket-01 in Saltmarsh Ferry\/Quay.*uptime/,
    );
    expect(within(refused as HTMLElement).getByText("sign-in.refuse")).toHaveClass("trouble");
    expect(screen.getByText("lines")).toHaveTextContent("120 lines");
  });

  it("is narrowed, and the export with it", async () => {
    show(<AuditPage />, "/people/audit?actor=ines");
    expect(await screen.findByLabelText("Who did it")).toHaveValue("ines");
    await userEvent.type(screen.getByLabelText("What was done begins with"), "job");
    await waitFor(() => expect(queries.at(-1)?.get("action")).toBe("job"));
    expect(queries.at(-1)?.get("actor")).toBe("ines");
    for (const [name, path] of [
      ["Export as CSV", "/api/v1/audit/export?format=csv&"],
      ["Export as NDJSON", "/api/v1/audit/export?"],
    ] as const) {
      const link = screen.getByRole("link", { name }).getAttribute("href") ?? "";
      expect(link).toContain(path);
      expect(link).toMatch(/action=job/);
      expect(link).toMatch(/actor=ines/);
    }
  });

  it("goes on with earlier lines", async () => {
    show(<AuditPage />);
    const earlier = await screen.findByRole("button", { name: "Show earlier lines" });
    service.answers["GET audit"] = [200, { items: [line(118)], total: 120, nextCursor: null }];
    await userEvent.click(earlier);
    expect(await screen.findByText("118")).toBeVisible();
    expect(queries.at(-1)?.get("before")).toBe("119");
    expect(screen.getByText("120", { selector: ".number" })).toBeVisible();
    expect(screen.queryByRole("button", { name: "Show earlier lines" })).toBeNull();
  });

  it("says that no line is like that", async () => {
    service.answers["GET audit"] = [200, { items: [], total: 0 }];
    show(<AuditPage />, "/people/audit?action=nothing");
    expect(await screen.findByText("No line is like that")).toBeVisible();
  });

  it("is for leads, and says who they are to others", async () => {
    service.answers["GET me"] = [
      200,
      { name: "Priya Lund", everywhere: [], anywhere: ["see"], canChange: ["Ines Okafor"] },
    ];
    show(<AuditPage />);
    expect(await screen.findByText("This takes the permission “administer” on everything")).toBeVisible();
    expect(screen.getByText(/Ines Okafor can change that/)).toBeVisible();
    expect(screen.queryByRole("table")).toBeNull();
  });
});
