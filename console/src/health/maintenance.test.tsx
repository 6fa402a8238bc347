import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { MaintenanceInfo } from "../api/types";
import { type Answering, answering, choose, show } from "../test-pages";
import { MaintenancePage } from "./MaintenancePage";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

let service: Answering;

const sunday = {
  id: "w",
  name: "Updates on Sunday night",
  groupId: "quay",
  place: "Saltmarsh Ferry/Quay",
  on: "tagged till",
  starts: "2026-11-29T22:00",
  zone: "Europe/Paris",
  minutes: 180,
  rule: "FREQ=WEEKLY;BYDAY=SU",
  note: "the kiosks are closed",
  createdBy: "Ines Okafor",
  hosts: 4,
  now: true,
  from: "2026-11-29T21:00:00Z",
  to: "2026-11-30T00:00:00Z",
  version: 7,
} as unknown as MaintenanceInfo;

const asked = () => service.asked.filter((a) => a.method !== "GET");

beforeEach(() => {
  service = answering();
  service.answers["GET me"] = [200, { name: "Ines Okafor", everywhere: ["configure"], anywhere: ["configure"] }];
  service.answers["GET groups"] = [
    200,
    { items: [{ id: "quay", path: "Saltmarsh Ferry/Quay", name: "Quay", may: ["see", "configure"] }] },
  ];
  service.answers["GET maintenance"] = [200, { items: [sunday] }];
});
afterEach(() => vi.unstubAllGlobals());

async function more(item: string) {
  await userEvent.click(await screen.findByRole("button", { name: `More about ${sunday.name}` }));
  await userEvent.click(await screen.findByRole("menuitem", { name: item }));
}

describe("maintenance windows", () => {
  it("say where, when and for how many hosts", async () => {
    show(<MaintenancePage />);
    const row = (await screen.findByText(sunday.name)).closest(".row") as HTMLElement;
    expect(row).toHaveTextContent(/Saltmarsh Ferry.*Quay, only tagged till \(4 hosts\)/);
    expect(row).toHaveTextContent(/for 3 h · the kiosks are closed/);
    expect(within(row).getByText(/^now, until/)).toBeVisible();
  });

  it("end before their time", async () => {
    service.answers["POST maintenance/w/end"] = [200, { ...sunday, now: false, from: null, to: null }];
    show(<MaintenancePage />);
    const end = await screen.findByRole("button", { name: `End ${sunday.name} now` });
    service.answers["GET maintenance"] = [200, { items: [{ ...sunday, now: false, from: null, to: null }] }];
    await userEvent.click(end);
    expect(await screen.findByText("over")).toBeVisible();
    expect(asked().map((a) => a.path)).toEqual(["maintenance/w/end"]);
  });

  it("are changed as they were read, and what is refused stays written", async () => {
    service.answers["PUT maintenance/w"] = [412, { detail: "Somebody else changed it meanwhile." }];
    show(<MaintenancePage />);
    await more(`Change ${sunday.name} …`);
    const dialog = await screen.findByRole("dialog");
    const name = within(dialog).getByLabelText("What is done in it");
    await userEvent.clear(name);
    await userEvent.type(name, "Updates of the kiosks");
    await userEvent.click(within(dialog).getByRole("button", { name: `Change ${sunday.name}` }));
    expect(await within(dialog).findByText(/Somebody else changed it/)).toBeVisible();
    expect(name).toHaveValue("Updates of the kiosks");
    const [put] = asked();
    expect(put?.headers.get("If-Match")).toBe('"7"');
    expect(put?.body).toEqual({
      name: "Updates of the kiosks",
      groupId: "quay",
      hostId: null,
      on: "tagged till",
      starts: "2026-11-29T22:00",
      zone: "Europe/Paris",
      minutes: 180,
      rule: "FREQ=WEEKLY;BYDAY=SU",
      note: "the kiosks are closed",
    });
  });

  it("begin now for everything, or at a time and again by a rule of one's own", async () => {
    service.answers["POST maintenance"] = [201, sunday];
    show(<MaintenancePage />);
    await userEvent.click(await screen.findByRole("button", { name: "New maintenance window …" }));
    const dialog = await screen.findByRole("dialog");
    await userEvent.type(within(dialog).getByLabelText("What is done in it"), "New disks");
    await userEvent.click(within(dialog).getByRole("radio", { name: "at a time" }));
    await choose(within(dialog).getByRole("combobox", { name: "Comes again" }), "by a rule of its own");
    const rule = within(dialog).getByLabelText("Rule");
    await userEvent.clear(rule);
    await userEvent.type(rule, "FREQ=MONTHLY;BYDAY=1SU");
    await userEvent.click(within(dialog).getByRole("button", { name: "Make no noise then" }));
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
    expect(asked()[0]?.body).toMatchObject({
      name: "New disks",
      groupId: null,
      minutes: 120,
      rule: "FREQ=MONTHLY;BYDAY=1SU",
      starts: expect.stringMatching(/^\d{4}-\d\d-\d\dT\d\d:00/) as string,
    });
  });

  it("go, once it was said what follows", async () => {
    service.answers["DELETE maintenance/w"] = [204, null];
    show(<MaintenancePage />);
    await more(`Remove ${sunday.name} …`);
    const dialog = await screen.findByRole("dialog");
    expect(dialog).toHaveTextContent("make noise again at once");
    service.answers["GET maintenance"] = [200, { items: [] }];
    await userEvent.click(within(dialog).getByRole("button", { name: `Remove ${sunday.name}` }));
    expect(await screen.findByText("No maintenance window")).toBeVisible();
    expect(asked().map((a) => [a.method, a.path])).toEqual([["DELETE", "maintenance/w"]]);
  });

  it("of a place where one may not configure are shown without buttons", async () => {
    service.answers["GET me"] = [200, { name: "Priya Lund", everywhere: [], anywhere: ["see"] }];
    service.answers["GET groups"] = [
      200,
      { items: [{ id: "quay", path: "Saltmarsh Ferry/Quay", name: "Quay", may: ["see"] }] },
    ];
    show(<MaintenancePage />);
    expect(await screen.findByText(sunday.name)).toBeVisible();
    expect(screen.queryByRole("button", { name: /End|More/ })).toBeNull();
  });
});
