import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { type Answering, answering, choose, show } from "../test-pages";
import { ReactionsPage } from "./ReactionsPage";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

let service: Answering;

const back = {
  id: "r",
  name: "Printers come back",
  check: "service-failed",
  checkName: "Service failed",
  groupId: "quay",
  place: "Saltmarsh Ferry/Quay",
  scriptId: "a",
  script: "Bring a unit back",
  isRunbook: true,
  values: { UNIT: "cups" },
  waitSeconds: 120,
  spacingSeconds: 3600,
  usesVault: false,
  off: false,
  owner: "Ines Okafor",
  ran: 2,
  lastAt: "2026-11-28T09:02:00Z",
  version: 3,
};
const script = {
  id: "a",
  name: "Bring a unit back",
  owner: "Ines Okafor",
  sharing: [],
  parameters: [{ name: "UNIT", kind: "text", optional: false }],
  latest: 1,
  version: 1,
  jobs: 0,
  steps: 1,
};

beforeEach(() => {
  service = answering();
  service.answers["GET me"] = [200, { name: "Ines Okafor", everywhere: ["configure"], anywhere: ["configure", "run"] }];
  service.answers["GET groups"] = [
    200,
    { items: [{ id: "quay", path: "Saltmarsh Ferry/Quay", name: "Quay", may: ["see", "configure", "run"] }] },
  ];
  service.answers["GET checks"] = [200, { items: [{ key: "service-failed", name: "Service failed" }] }];
  service.answers["GET scripts"] = [200, { items: [script] }];
  service.answers["GET scripts/a"] = [
    200,
    {
      script,
      shown: { number: 1, command: { steps: [{ name: "Look", text: "true\n" }] }, parameters: script.parameters },
      versions: [{ number: 1, lines: 1, steps: 1 }],
    },
  ];
  service.answers["GET reactions"] = [200, { items: [back] }];
});
afterEach(() => vi.unstubAllGlobals());

const asked = (method: string, path: string) => service.asked.filter((a) => a.method === method && a.path === path);

describe("reactions", () => {
  it("say when what runs where, and how it went", async () => {
    service.answers["GET reactions"] = [
      200,
      {
        items: [
          back,
          {
            ...back,
            id: "s",
            name: "Room by itself",
            script: null,
            off: true,
            lastProblem: "There is no such script.",
          },
        ],
      },
    ];
    show(<ReactionsPage />, "/rules/reactions");
    const row = (await screen.findByText("Printers come back")).closest(".row") as HTMLElement;
    expect(row).toHaveTextContent("When Service failed is raised on Saltmarsh Ferry ▸ Quay and still open after 2 min");
    expect(row).toHaveTextContent("runs Bring a unit back UNIT=cups, on one host not again within 1 h");
    expect(row).toHaveTextContent("ran 2 times");
    expect(within(row).getByRole("link", { name: "Bring a unit back" })).toHaveAttribute("href", "/work/runbooks/a");
    const other = screen.getByText("Room by itself").closest(".row") as HTMLElement;
    expect(other).toHaveTextContent("runs nothing: what it ran was removed");
    expect(other).toHaveTextContent("switched off");
    expect(within(other).getByText("There is no such script.")).toHaveClass("trouble");
  });

  it("say that there are none", async () => {
    service.answers["GET reactions"] = [200, { items: [] }];
    show(<ReactionsPage />, "/rules/reactions");
    expect(await screen.findByText("Nothing runs by itself")).toBeVisible();
  });

  it("are switched off as they were read", async () => {
    service.answers["PUT reactions/r"] = [200, { ...back, off: true }];
    show(<ReactionsPage />, "/rules/reactions");
    await userEvent.click(await screen.findByRole("button", { name: "Switch Printers come back off" }));
    const [sent] = asked("PUT", "reactions/r");
    expect(sent?.headers.get("If-Match")).toBe('"3"');
    expect(sent?.body).toMatchObject({
      name: "Printers come back",
      off: true,
      waitSeconds: 120,
      values: { UNIT: "cups" },
    });
  });

  it("are made of a check, a place and a runbook; what is missing is said", async () => {
    service.answers["POST reactions"] = [200, back];
    show(<ReactionsPage />, "/rules/reactions");
    const person = userEvent.setup();
    await person.click(await screen.findByRole("button", { name: "New reaction …" }));
    expect(screen.getByText("Give it a name first")).toBeVisible();
    await person.type(screen.getByLabelText("What it is called"), "Printers");
    expect(screen.getByText("Choose a check first")).toBeVisible();
    await choose(screen.getByRole("combobox", { name: "When this check is raised" }), "Service failed");
    expect(screen.getByText("Choose what runs first")).toBeVisible();
    await choose(screen.getByRole("combobox", { name: "Script or runbook" }), "Bring a unit back");
    await person.type(await screen.findByLabelText(/UNIT/), "cups");
    await person.click(screen.getByRole("button", { name: "Have it run" }));
    expect(asked("POST", "reactions")[0]?.body).toEqual({
      name: "Printers",
      check: "service-failed",
      scriptId: "a",
      groupId: null,
      hostId: null,
      number: null,
      values: { UNIT: "cups" },
      waitSeconds: 0,
      spacingSeconds: 3600,
      usesVault: false,
      off: false,
    });
  });

  it("are removed after a question, and keep the question where it is refused", async () => {
    service.answers["DELETE reactions/r"] = [403, { detail: "You may not configure Quay." }];
    show(<ReactionsPage />, "/rules/reactions");
    const person = userEvent.setup();
    await person.click(await screen.findByRole("button", { name: "More about Printers come back" }));
    await person.click(await screen.findByRole("menuitem", { name: "Remove Printers come back …" }));
    await person.click(await screen.findByRole("button", { name: "Remove Printers come back" }));
    expect(await screen.findByText("You may not configure Quay.")).toBeVisible();
  });
});
