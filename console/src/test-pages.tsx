/** Shows pages in tests: the real client, over a stand-in for the network. */
import { MantineProvider } from "@mantine/core";
import { QueryClientProvider } from "@tanstack/react-query";
import { render, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { MemoryRouter, useLocation } from "react-router";
import { vi } from "vitest";
import { newQueryClient } from "./api/queries";
import type { HostSummary, RunCounts } from "./api/types";

export interface Asked {
  method: string;
  path: string;
  body: unknown;
  headers: Headers;
}

/** What the pages asked of the service, and the answers it gives: status and body by "GET set-up". */
export interface Answering {
  asked: Asked[];
  /** Status, body, and whether the body is text rather than JSON. */
  answers: Record<string, [number, unknown, boolean?]>;
}

/** Stands in for the network until the globals are put back. */
export function answering(): Answering {
  const service: Answering = { asked: [], answers: {} };
  vi.stubGlobal("fetch", async (request: Request) => {
    const path = new URL(request.url).pathname.replace("/api/v1/", "");
    const text = await request.text();
    const isJson = request.headers.get("Content-Type")?.includes("json");
    const body: unknown = text && isJson ? JSON.parse(text) : text || undefined;
    service.asked.push({ method: request.method, path, body, headers: request.headers });
    const [status, answer, isText] = service.answers[`${request.method} ${path}`] ?? [
      404,
      { detail: `nobody answers ${request.method} ${path}` },
    ];
    return new Response(status === 204 ? null : isText ? String(answer) : JSON.stringify(answer), {
      status,
      headers: { "Content-Type": isText ? "text/plain" : "application/json" },
    });
  });
  return service;
}

export function show(page: React.ReactNode, at = "/") {
  const queries = newQueryClient();
  const shown = render(
    <MantineProvider env="test">
      <QueryClientProvider client={queries}>
        <MemoryRouter initialEntries={[at]}>{page}</MemoryRouter>
      </QueryClientProvider>
    </MantineProvider>,
  );
  return { ...shown, queries };
}

/** Says where a page has led to; {@link where} reads it. */
export function Where() {
  const { pathname, search } = useLocation();
  return <output aria-label="where">{pathname + search}</output>;
}

export const where = () => screen.getByLabelText("where").textContent;

/** Chooses in a field's list; other fields' lists may have the same words. */
export async function choose(field: HTMLElement, what: string) {
  await userEvent.click(field);
  const list = document.getElementById(field.getAttribute("aria-controls") ?? "");
  if (!list) throw new Error(`nothing drops down from ${field.getAttribute("aria-label")}`);
  await userEvent.click(await within(list).findByRole("option", { name: what, hidden: true }));
}

/** Gives elements a height, for lists that draw only what is in sight; until mocks are put back. */
export const withRoom = () => vi.spyOn(Element.prototype, "clientHeight", "get").mockReturnValue(600);

/** A host of the quay. */
export const quayHost = (label: string, more: object = {}) =>
  ({
    id: label,
    label,
    systemName: label,
    groupPath: "Saltmarsh Ferry/Quay",
    address: "198.51.100.23",
    agentVersion: "0.2.0",
    users: [],
    tags: ["till"],
    presence: { state: "linked" },
    ...more,
  }) as unknown as HostSummary;

/** How many runs of a job are in each state: none, but for those that are said. */
export const runCounts = (some: Partial<RunCounts>): RunCounts => ({
  waiting: 0,
  sent: 0,
  running: 0,
  succeeded: 0,
  failed: 0,
  timedOut: 0,
  refused: 0,
  cancelled: 0,
  expired: 0,
  interrupted: 0,
  ...some,
});
