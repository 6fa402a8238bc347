import { act, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { follow } from "../api/live";
import type { HostSummary, ScanChanges, ScanFind, ScanInfo } from "../api/types";
import { estateStore } from "../estate/estateStore";
import { type Answering, answering, quayHost, show } from "../test-pages";
import { AgentsPage } from "./AgentsPage";
import { FindPage } from "./FindPage";
import { WaitingPanel } from "./WaitingPanel";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

let service: Answering;

beforeEach(() => {
  service = answering();
  service.answers["GET me"] = [
    200,
    { name: "Ines Okafor", anywhere: ["scan", "software"], canChange: ["Odile Marsh"] },
  ];
});
afterEach(() => {
  vi.unstubAllGlobals();
  estateStore.take({ reset: true, hosts: [] });
});

const QUAY = "Saltmarsh Ferry/Quay";
const estate = (...hosts: HostSummary[]) => {
  act(() => estateStore.take({ reset: true, hosts }));
};
const last = (method: string, path: string) =>
  service.asked.filter((a) => a.method === method && a.path === path).at(-1);

describe("a look around", () => {
  const info = {
    id: "scan",
    hostLabel: "quay-office-02",
    groupPath: QUAY,
    range: "198.51.100.0/24",
    state: "running",
    probed: 64,
    total: 256,
    found: 2,
    notOurs: 1,
    startedBy: "Ines Okafor",
    startedAt: "2026-11-28T09:00:00Z",
  } as unknown as ScanInfo;
  const find = (address: string, more: object) => ({ address, openPorts: [22], ...more }) as unknown as ScanFind;

  /** What the service says on the line of the scan that is shown. */
  const says = (changes: ScanChanges) => {
    const line = vi.mocked(follow).mock.calls.findLast(([stream]) => stream === "Scan");
    act(() => (line?.[2] as (c: ScanChanges) => void)(changes));
  };

  it("begins at a host that is linked, with the addresses around it", async () => {
    service.answers["GET scans"] = [200, { items: [] }];
    service.answers["POST scans"] = [422, { detail: "A /16 is more than the 4,096 addresses that are looked at." }];
    estate(quayHost("quay-office-02"), quayHost("away-01", { presence: { state: "away" } }));
    show(<FindPage />);
    expect(await screen.findByText("Nobody has looked around yet")).toBeVisible();
    const begin = screen.getByRole("button", { name: "Look around" });
    expect(begin).toHaveAttribute("title", "Choose the host that looks around");
    await userEvent.click(screen.getByRole("combobox", { name: "Look around from" }));
    expect(screen.getAllByRole("option", { hidden: true }).map((o) => o.textContent)).toEqual(["quay-office-02"]);
    await userEvent.click(screen.getByRole("option", { name: "quay-office-02", hidden: true }));
    const addresses = screen.getByRole("textbox", { name: "Addresses" });
    expect(addresses).toHaveValue("198.51.100.0/24");
    await userEvent.clear(addresses);
    await userEvent.type(addresses, "198.51.0.0/16");
    await userEvent.click(screen.getByRole("button", { name: "Look around from quay-office-02" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("A /16 is more than");
    expect(last("POST", "scans")?.body).toEqual({
      hostId: "quay-office-02",
      range: "198.51.0.0/16",
      ports: null,
      probesPerSecond: 100,
    });
  });

  it("shows what answers as it is found, by address, and what has an agent already", async () => {
    service.answers["GET scans"] = [200, { items: [{ id: "scan" }] }];
    service.answers["POST scans/scan/cancel"] = [409, { detail: "The scan has ended." }];
    show(<FindPage />);
    await waitFor(() => {
      expect(vi.mocked(follow).mock.calls.some(([stream]) => stream === "Scan")).toBe(true);
    });
    says({
      reset: true,
      info,
      finds: [
        find("198.51.100.110", { name: "printer", openPorts: [80, 631], vendor: "Lantern Print" }),
        find("198.51.100.23", { oursHostId: "quay-office-02", oursLabel: "quay-office-02" }),
      ],
    });
    expect(screen.getByText(/64 of 256 addresses tried, 2 answer, 1 have no agent of ours/)).toBeVisible();
    expect(screen.getByRole("progressbar", { name: "How far the scan is" })).toHaveAttribute("aria-valuenow", "25");
    expect(screen.getAllByText(/^198\.51\.100\.\d+$/).map((a) => a.textContent)).toEqual([
      "198.51.100.23",
      "198.51.100.110",
    ]);
    expect(screen.getByRole("link", { name: "quay-office-02" })).toHaveAttribute("href", "/hosts/quay-office-02");
    await userEvent.type(screen.getByRole("textbox", { name: "Show only finds with" }), "631");
    expect(screen.getAllByText(/^198\.51\.100\.\d+$/)).toHaveLength(1);
    await userEvent.type(screen.getByRole("textbox", { name: "Show only finds with" }), "9");
    expect(screen.getByText("Nothing matches")).toBeVisible();
    // An end that comes too late is told.
    await userEvent.click(screen.getByRole("button", { name: "End the scan from quay-office-02" }));
    expect(await screen.findByText("The scan has ended.")).toBeVisible();
    says({ reset: false, info: { ...info, state: "done", probed: 256 }, finds: [] });
    expect(screen.queryByRole("progressbar")).toBeNull();
    expect(screen.getByRole("button", { name: /^Make an installer for/ })).toBeEnabled();
  });

  it("is not for who may scan nowhere, and it is said who could change that", async () => {
    service.answers["GET me"] = [200, { name: "Tomasz Vail", anywhere: ["see"], canChange: ["Odile Marsh"] }];
    service.answers["GET scans"] = [200, { items: [] }];
    show(<FindPage />);
    expect(await screen.findByText("This takes the permission “scan”")).toBeVisible();
    expect(screen.getByText(/Odile Marsh can change that/)).toBeVisible();
  });
});

describe("updates of agents", () => {
  const rollout = {
    id: "r1",
    version: "0.2.0",
    selection: '"quay-ticket-03"',
    state: "running",
    wave: 1,
    waves: 3,
    updated: 0,
    hosts: 2,
    createdBy: "Ines Okafor",
    createdAt: "2026-11-28T09:00:00Z",
  };
  const releases = [
    { version: "0.2.0", hosts: 1, size: 20_000_000, addedBy: "the service itself", newest: true },
    { version: "0.1.0", hosts: 2, size: 20_000_000, addedBy: "Ines Okafor", newest: false },
  ];

  it("are suggested for the hosts that are behind, and go in waves", async () => {
    service.answers["GET releases"] = [200, { items: releases }];
    service.answers["GET rollouts"] = [200, { items: [] }];
    service.answers["POST rollouts"] = [200, { info: rollout }];
    estate(
      quayHost("quay-office-02"),
      quayHost("quay-ticket-03", { agentVersion: "0.1.0" }),
      quayHost("quay-ticket-01", { agentVersion: "0.1.0" }),
    );
    show(<AgentsPage />);
    expect(await screen.findByText("2 of 3")).toBeVisible();
    const hosts = screen.getByRole("textbox", { name: /^Hosts/ });
    expect(hosts).toHaveValue('"quay-ticket-03" or "quay-ticket-01"');
    await userEvent.clear(screen.getByRole("textbox", { name: /^Waves/ }));
    await userEvent.type(screen.getByRole("textbox", { name: /^Waves/ }), "1, rest");
    await userEvent.click(screen.getByRole("button", { name: "Update to 0.2.0" }));
    await waitFor(() => {
      expect(last("POST", "rollouts")?.body).toEqual({
        selection: '"quay-ticket-03" or "quay-ticket-01"',
        version: "0.2.0",
        waves: "1, rest",
        failuresAllowed: 0,
        returnWithinSeconds: 300,
      });
    });
  });

  it("can't be begun where the service has no agent to give, and the button says so", async () => {
    service.answers["GET releases"] = [200, { items: [] }];
    service.answers["GET rollouts"] = [200, { items: [] }];
    show(<AgentsPage />);
    expect(await screen.findByText("The service has no agent to give.")).toBeVisible();
    const button = screen.getByRole("button", { name: "Update" });
    expect(button).toBeDisabled();
    expect(button).toHaveAttribute("title", "The service has no agent to give; add a release first");
  });

  it("are told host by host, with why one failed, and can be cancelled", async () => {
    const hosts = [
      { hostId: "a", label: "quay-ticket-01", wave: 1, state: "updated", reason: null },
      { hostId: "b", label: "quay-ticket-03", wave: 2, state: "went-back", reason: "It did not return within 5 min." },
    ];
    service.answers["GET releases"] = [200, { items: releases }];
    service.answers["GET rollouts"] = [200, { items: [rollout] }];
    service.answers["GET rollouts/r1"] = [200, { info: { ...rollout, reason: "1 host failed." }, hosts }];
    service.answers["POST rollouts/r1/cancel"] = [200, {}];
    show(<AgentsPage />);
    const panel = await screen.findByRole("region", { name: "Update to 0.2.0: running" });
    expect(within(panel).getByText("It did not return within 5 min.")).toBeVisible();
    expect(within(panel).getByText("1 host failed.")).toBeVisible();
    expect(screen.getByText(/wave 1 of 3, 0 of 2 updated/)).toBeVisible();
    await userEvent.click(within(panel).getByRole("button", { name: "Cancel the update to 0.2.0" }));
    await waitFor(() => {
      expect(last("POST", "rollouts/r1/cancel")).toBeDefined();
    });
  });
});

describe("computers that wait", () => {
  const waits = (id: string, more: object = {}) => ({
    id,
    groupPath: QUAY,
    at: "2026-11-28T09:00:00Z",
    address: null,
    systemName: id,
    label: id,
    ...more,
  });

  it("are let in one by one or all at once, and what the service says of it is told", async () => {
    service.answers["GET enrolments"] = [200, { items: [waits("kiosk-1"), waits("kiosk-2")] }];
    service.answers["POST enrolments/decide"] = [409, { detail: "Somebody else has decided about kiosk-1." }];
    show(<WaitingPanel scope="" />);
    expect(await screen.findByText("2 computers wait to be let in")).toBeVisible();
    await userEvent.click(screen.getByRole("button", { name: "Let all 2 in" }));
    expect(await screen.findByText("Somebody else has decided about kiosk-1.")).toBeVisible();
    expect(last("POST", "enrolments/decide")?.body).toEqual({ ids: ["kiosk-1", "kiosk-2"], decision: "approve" });
    await userEvent.click(screen.getByRole("checkbox", { name: "Mark kiosk-2" }));
    await userEvent.click(screen.getByRole("button", { name: "Turn 1 marked away" }));
    expect(last("POST", "enrolments/decide")?.body).toEqual({ ids: ["kiosk-2"], decision: "reject" });
    await userEvent.click(screen.getByRole("button", { name: "Let kiosk-1 in" }));
    expect(last("POST", "enrolments/decide")?.body).toEqual({ ids: ["kiosk-1"], decision: "approve" });
  });

  it("elsewhere are not shown in a scope", async () => {
    service.answers["GET enrolments"] = [
      200,
      { items: [waits("kiosk-1"), waits("dome-1", { groupPath: "Brindle Moor Observatory" })] },
    ];
    show(<WaitingPanel scope="Brindle Moor Observatory" />);
    expect(await screen.findByText("One computer waits to be let in")).toBeVisible();
    expect(screen.getByRole("button", { name: "Let it in" })).toBeVisible();
    expect(screen.queryByText("kiosk-1")).toBeNull();
  });
});
