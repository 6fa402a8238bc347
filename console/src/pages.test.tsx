import { MantineProvider } from "@mantine/core";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { act, render, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { MemoryRouter, Route, Routes } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { Door } from "./access/Door";
import type { HostSummary } from "./api/types";
import { JoinPage } from "./enrolment/JoinPage";
import { estateStore } from "./estate/estateStore";
import { FactsPanel } from "./estate/FactsPanel";
import { ScopeLine } from "./estate/ScopeLine";

/** What the pages asked of the service, and the answers it gives: the real client, over a stand-in for the network. */
const asked: { method: string; path: string; body: unknown }[] = [];
let answers: Record<string, [number, unknown]> = {};

beforeEach(() => {
  asked.length = 0;
  vi.stubGlobal("fetch", async (request: Request) => {
    const path = new URL(request.url).pathname.replace("/api/v1/", "");
    const text = await request.text();
    asked.push({ method: request.method, path, body: text ? JSON.parse(text) : undefined });
    const [status, body] = answers[`${request.method} ${path}`] ?? [
      404,
      { detail: `nobody answers ${request.method} ${path}` },
    ];
    return new Response(status === 204 ? null : JSON.stringify(body), {
      status,
      headers: { "Content-Type": "application/json" },
    });
  });
});
afterEach(() => vi.unstubAllGlobals());

function show(page: React.ReactNode, at = "/") {
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  return render(
    <MantineProvider>
      <QueryClientProvider client={queries}>
        <MemoryRouter initialEntries={[at]}>{page}</MemoryRouter>
      </QueryClientProvider>
    </MantineProvider>,
  );
}

describe("the door", () => {
  it("asks a new service's first technician for the code and says what the service says", async () => {
    answers = {
      "GET set-up": [200, { needed: true }],
      "POST set-up": [403, { type: "urn:umbrek:problem:wrong-credentials", detail: "The set-up code is wrong." }],
    };
    show(<Door />);
    await userEvent.type(await screen.findByLabelText(/Set-up code/), "ABCD");
    await userEvent.type(screen.getByLabelText(/^Name/), "Ines Okafor");
    await userEvent.type(screen.getByLabelText(/^Password/), "tide-lantern-orchard");
    await userEvent.click(screen.getByRole("button", { name: "Make the first technician" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("The set-up code is wrong.");
    expect(asked.at(-1)?.body).toEqual({ code: "ABCD", name: "Ines Okafor", password: "tide-lantern-orchard" });
  });

  it("signs in with a cookie otherwise", async () => {
    answers = {
      "GET set-up": [200, { needed: false }],
      "POST sign-in": [200, { technician: { id: "1", name: "Ines Okafor", role: "lead" } }],
    };
    show(<Door />);
    await userEvent.type(await screen.findByLabelText(/^Name/), "Ines Okafor");
    await userEvent.type(screen.getByLabelText(/^Password/), "tide-lantern-orchard{Enter}");
    await waitFor(() => expect(asked.some((a) => a.path === "sign-in")).toBe(true));
    expect(asked.find((a) => a.path === "sign-in")?.body).toMatchObject({ name: "Ines Okafor", use: "cookie" });
    expect(screen.queryByLabelText(/Set-up code/)).toBeNull();
  });
});

describe("the page to join", () => {
  const token = {
    id: "t1",
    groupPath: "Saltmarsh Ferry/Quay",
    state: "valid",
    createdAt: "2026-11-23T12:00:00Z",
    createdBy: "Ines Okafor",
    expiresAt: "2026-11-30T12:00:00Z",
    maxUses: 3,
    uses: 1,
  };

  it("lists tokens with what is left of them and revokes one", async () => {
    answers = {
      "GET enrolment-tokens": [200, { items: [token, { ...token, id: "t2", state: "used-up", uses: 3 }], total: 2 }],
      "GET groups": [200, { items: [], total: 0 }],
      "POST enrolment-tokens/t1/revoke": [200, { ...token, state: "revoked" }],
    };
    show(<JoinPage />);
    expect(await screen.findByText("1 of 3")).toBeInTheDocument();
    expect(screen.getByText("used up")).toBeInTheDocument();
    await userEvent.click(screen.getByRole("button", { name: "Revoke" }));
    await waitFor(() => expect(asked.some((a) => a.path === "enrolment-tokens/t1/revoke")).toBe(true));
  });

  it("says why nothing can be made before a group is chosen", async () => {
    answers = { "GET enrolment-tokens": [200, { items: [], total: 0 }], "GET groups": [200, { items: [], total: 0 }] };
    show(<JoinPage />);
    expect(await screen.findByText("No token yet")).toBeInTheDocument();
    expect(screen.getByRole("button", { name: "Make a token" })).toHaveAttribute("title", "Choose a group first");
    expect(screen.getByPlaceholderText("There is no group yet")).toBeInTheDocument();
  });
});

describe("the facts of a host", () => {
  const detail = (state: "linked" | "away") =>
    ({
      summary: { id: "h1", label: "plover-log-01", presence: { state, reason: "none", since: "2026-11-23T12:00:00Z" } },
      enrolledAt: "2026-11-01T12:00:00Z",
      facts: [{ name: "os.kernel", value: "6.1.0-28-amd64", learntAt: "2026-11-23T12:00:00Z" }],
      version: 1,
    }) as unknown as Parameters<typeof FactsPanel>[0]["host"];

  it("can be asked again of a linked host, and an answer that fails is told", async () => {
    answers = { "POST hosts/h1/refresh": [409, { detail: "The host did not answer within 15 s." }] };
    show(<FactsPanel host={detail("linked")} />);
    expect(screen.getByText("6.1.0-28-amd64")).toBeInTheDocument();
    await userEvent.click(screen.getByRole("button", { name: "Ask again now" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("did not answer");
  });

  it("are the last known ones of a host that is away, and it says so", () => {
    show(<FactsPanel host={detail("away")} />);
    expect(screen.getByRole("button", { name: "Away: last known facts" })).toBeDisabled();
    expect(screen.getByRole("button")).toHaveAttribute("title", expect.stringContaining("plover-log-01 is away"));
  });
});

describe("the scope line", () => {
  const host = (label: string) =>
    ({
      id: label,
      systemName: label,
      label,
      groupPath: "Saltmarsh Ferry/Quay",
      users: [],
      presence: { state: "linked" },
    }) as unknown as HostSummary;
  const page = (
    <Routes>
      <Route path="*" element={<ScopeLine me={{ id: "1", name: "Ines Okafor", role: "lead" }} />} />
      <Route path="/hosts/:id" element={<p>bench</p>} />
    </Routes>
  );

  it("keeps every letter that is typed and opens the first find with Enter", async () => {
    act(() => estateStore.take({ reset: true, hosts: [host("quay-ticket-01"), host("plover-log-01")] }));
    show(page, "/hosts");
    await userEvent.type(screen.getByRole("textbox"), "plover{Enter}");
    expect(await screen.findByText("bench")).toBeInTheDocument();
  });

  it("names the scope from the customer down and goes back to everything", async () => {
    show(page, "/hosts?scope=Saltmarsh%20Ferry%2FQuay");
    expect(screen.getByRole("button", { name: "Saltmarsh Ferry" })).toBeInTheDocument();
    expect(screen.getByRole("link", { name: "Work" })).toHaveAttribute(
      "href",
      expect.stringContaining("scope=Saltmarsh"),
    );
    await userEvent.click(screen.getByRole("button", { name: "Everything" }));
    expect(screen.queryByRole("button", { name: "Quay" })).toBeNull();
  });

  it("takes the slash for the way to the find", async () => {
    show(page, "/hosts");
    await userEvent.keyboard("/");
    expect(screen.getByRole("textbox")).toHaveFocus();
    await userEvent.keyboard("quay");
    expect(screen.getByRole("textbox")).toHaveValue("quay");
    await userEvent.keyboard("{Escape}");
    expect(screen.getByRole("textbox")).toHaveValue("");
  });
});
