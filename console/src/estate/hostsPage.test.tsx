import { act, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { type Answering, answering, quayHost, show, withRoom, Where, where } from "../test-pages";
import { estateStore } from "./estateStore";
import { HostsPage } from "./HostsPage";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

let service: Answering;
const hosts = [
  quayHost("quay-ticket-10", { processorPercent: 12 }),
  quayHost("quay-ticket-2", { processorPercent: 71, users: ["elin.marlow"] }),
  quayHost("orrin-desk-01", {
    groupPath: "Copperbeech Libraries/Orrin",
    presence: { state: "away", reason: "lost-contact", since: "2026-11-28T09:02:00Z", losses: 1 },
  }),
];

const page = (at = "/hosts") =>
  show(
    <>
      <Where />
      <HostsPage />
    </>,
    at,
  );
const labels = () => [...document.querySelectorAll<HTMLElement>("[data-host]")].map((row) => row.dataset.host);

beforeEach(() => {
  withRoom();
  service = answering();
  service.answers["GET me"] = [200, { name: "Ines Okafor", everywhere: [], anywhere: ["see"] }];
  for (const what of ["customers", "groups", "me/marks", "me/hosts", "selections", "fields"])
    service.answers[`GET ${what}`] = [200, { items: [] }];
  act(() => estateStore.take({ reset: true, hosts }));
});
afterEach(() => {
  estateStore.take({ reset: true, hosts: [] });
  vi.restoreAllMocks();
  vi.unstubAllGlobals();
});

describe("the hosts", () => {
  it("stand under their groups by name, and are counted", async () => {
    page();
    await waitFor(() => expect(labels()).toEqual(["orrin-desk-01", "quay-ticket-2", "quay-ticket-10"]));
    const counts = document.querySelector(".counts");
    expect(counts).toHaveTextContent("3 in all2 linked1 away");
    expect(screen.getByText("1 host, 1 away")).toBeVisible();
    // A host that comes back is counted at once.
    act(() => estateStore.take({ reset: true, hosts: hosts.map((h) => ({ ...h, presence: quayHost("x").presence })) }));
    await waitFor(() => expect(counts).toHaveTextContent("3 in all3 linked0 away"));
  });

  it("are narrowed by words and ordered by a column, all of it in the address", async () => {
    page("/hosts?group=none");
    await userEvent.type(screen.getByLabelText(/^Narrow/), "quay");
    await waitFor(() => expect(labels()).toEqual(["quay-ticket-2", "quay-ticket-10"]));
    expect(document.querySelector(".counts")).toHaveTextContent("2 found");
    await userEvent.click(screen.getByRole("button", { name: /^Processor/ }));
    await waitFor(() => expect(labels()).toEqual(["quay-ticket-10", "quay-ticket-2"]));
    await userEvent.click(screen.getByRole("button", { name: /^Processor/ }));
    await waitFor(() => expect(labels()).toEqual(["quay-ticket-2", "quay-ticket-10"]));
    expect(where()).toContain("sort=-processor");
    expect(where()).toContain("on=quay");
  });

  it("are gone through by keys: arrows go, Space marks, Enter opens", async () => {
    page("/hosts?group=none");
    await waitFor(() => expect(labels()).toHaveLength(3));
    const row = (id: string) => document.querySelector<HTMLElement>(`[data-host="${id}"]`);
    row("orrin-desk-01")?.focus();
    await userEvent.keyboard("{ArrowDown}");
    await waitFor(() => expect(row("quay-ticket-2")).toHaveFocus());
    await userEvent.keyboard(" ");
    expect(screen.getByRole("checkbox", { name: "Mark quay-ticket-2" })).toBeChecked();
    await userEvent.keyboard("{Home}");
    await waitFor(() => expect(row("orrin-desk-01")).toHaveFocus());
    await userEvent.keyboard("{Enter}");
    await waitFor(() => expect(where()).toBe("/hosts/orrin-desk-01"));
  });
});
