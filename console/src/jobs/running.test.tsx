import { act, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { HostProcess, HostService } from "../api/types";
import { quayHost, show, withRoom } from "../test-pages";
import { ChannelEnd, type Service, standIn } from "../test-service";
import { ProcessPanel } from "./ProcessPanel";
import { ServicePanel } from "./ServicePanel";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

let service: Service;
let answers: Record<string, object>;

beforeEach(() => {
  service = standIn();
  answers = {
    "GET /groups": { items: [{ id: "q", path: "Saltmarsh Ferry/Quay", name: "Quay", may: ["see", "run"] }] },
    "POST /jobs": { id: "j" },
  };
  service.answer = (path) => answers[path];
  withRoom();
});
afterEach(() => {
  vi.unstubAllGlobals();
  vi.restoreAllMocks();
});

const host = quayHost("quay-ticket-01");
const button = (name: string | RegExp) => screen.findByRole("button", { name });
const jobs = () => service.calls.filter((c) => c.path === "POST /jobs").map((c) => c.body);
const look = async (what: string) => {
  await userEvent.click(await button(`Look at the ${what} of quay-ticket-01`));
  await vi.waitFor(() => expect(ChannelEnd.all).not.toHaveLength(0));
};
const says = (word: object) => act(() => ChannelEnd.last.word(word));

describe("the processes of a host", () => {
  const process = (pid: number, name: string, more: Partial<HostProcess> = {}) =>
    ({
      pid,
      name,
      start: pid * 10,
      parent: 1,
      user: "root",
      state: "sleeping",
      niceness: 0,
      memoryBytes: 1 << 20,
      processorSeconds: 61,
      startedAt: "2026-11-28T08:00:00Z",
      commandLine: `/usr/bin/${name}`,
      ...more,
    }) as HostProcess;
  const reading = (changed: HostProcess[], more: object = {}) => ({
    changes: {
      reset: true,
      at: "2026-11-28T09:00:00Z",
      boot: "b",
      processors: 2,
      memoryBytes: 1 << 30,
      gone: [],
      changed,
      ...more,
    },
  });
  const open = async (...processes: HostProcess[]) => {
    show(<ProcessPanel host={host} />);
    await look("processes");
    says(reading(processes));
    return screen.findByRole("table", { name: "Processes of quay-ticket-01" });
  };
  const rows = () =>
    screen
      .getAllByRole("checkbox")
      .map((c) => c.getAttribute("aria-label"))
      .filter((l) => l?.includes("("));

  it("are shown by what they take, and ordered by any column, either way", async () => {
    await open(
      process(7, "till", { processorPercent: 3 }),
      process(9, "export", { processorPercent: 150, user: "www-data" }),
    );
    expect(rows()).toEqual(["export (9)", "till (7)"]);
    expect(screen.getByText("2 processes, processor 77 %")).toBeVisible();
    await userEvent.click(await button("Number"));
    expect(rows()).toEqual(["till (7)", "export (9)"]);
    expect(screen.getByRole("columnheader", { name: /^Number/ })).toHaveAttribute("aria-sort", "ascending");
    await userEvent.click(await button(/^Number/));
    expect(rows()).toEqual(["export (9)", "till (7)"]);
    await userEvent.type(screen.getByRole("textbox", { name: "Find among the processes" }), "www export");
    expect(rows()).toEqual(["export (9)"]);
    expect(screen.getByText(/^1 of 2 processes/)).toBeVisible();
  });

  it("are chosen until they end; another that has the number of one is not it", async () => {
    await open(process(7, "till"), process(9, "export"));
    await userEvent.click(screen.getByRole("checkbox", { name: "till (7)" }));
    await userEvent.click(screen.getByRole("checkbox", { name: "export (9)" }));
    expect(screen.getByText("till (7), export (9)")).toBeVisible();
    says(reading([process(7, "cron", { start: 500 })], { reset: false, gone: [9] }));
    expect(await screen.findByText(/^Choose processes to end them/)).toBeVisible();
    expect(screen.getByRole("checkbox", { name: "cron (7)" })).not.toBeChecked();
  });

  it("are ended only after it was said on which host, of whom, and which they are", async () => {
    await open(process(7, "till", { commandLine: "/usr/bin/till \u202Enoisrev" }), process(9, "export"));
    await userEvent.click(screen.getByRole("checkbox", { name: "till (7)" }));
    await userEvent.click(await button("Kill …"));
    const dialog = await screen.findByRole("dialog", { name: "Kill till (7)" });
    expect(dialog).toHaveTextContent("On quay-ticket-01 of Saltmarsh Ferry. They are not asked to end");
    expect(within(dialog).getByRole("listitem").textContent).toBe("7 /usr/bin/till \u2426noisrev");
    expect(jobs()).toEqual([]);
    await userEvent.click(
      within(dialog).getByRole("button", { name: "Kill till on quay-ticket-01 of Saltmarsh Ferry" }),
    );
    await vi.waitFor(() => expect(jobs()).toHaveLength(1));
    expect(jobs()[0]).toMatchObject({
      command: { action: { end: { which: { marks: [{ pid: 7, start: 70, name: "till" }], boot: "b" }, force: true } } },
      expiresInSeconds: 60,
    });
    await vi.waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  });

  it("are given a niceness that was said", async () => {
    await open(process(7, "till"));
    await userEvent.click(screen.getByRole("checkbox", { name: "till (7)" }));
    await userEvent.click(await button("Niceness …"));
    const niceness = await screen.findByRole("textbox", { name: "Niceness" });
    await userEvent.clear(niceness);
    const set = await button(/^Set the niceness of till on/);
    expect(set).toBeDisabled();
    expect(set).toHaveAttribute("title", "Say a niceness first");
    await userEvent.type(niceness, "-5");
    await userEvent.click(set);
    await vi.waitFor(() => expect(jobs()).toHaveLength(1));
    expect(jobs()[0]).toMatchObject({ command: { action: { rank: { niceness: -5 } } } });
  });

  it("say what the service said when it refuses", async () => {
    await open(process(7, "till"));
    await userEvent.click(screen.getByRole("checkbox", { name: "till (7)" }));
    await userEvent.click(await button("End …"));
    service.refuse = { status: 403, detail: "Its host policy does not allow run." };
    await userEvent.click(await button(/^End till on/));
    expect(await screen.findByText("Its host policy does not allow run.")).toBeVisible();
  });

  it("are looked at again after the line broke, and no more once nobody wants to", async () => {
    await open(process(7, "till"));
    act(() => ChannelEnd.last.breaks());
    expect(await screen.findByText(/The line to the host broke/)).toBeVisible();
    const before = ChannelEnd.all.length;
    await userEvent.click(await button("Look again"));
    await vi.waitFor(() => expect(ChannelEnd.all.length).toBe(before + 1));
    await userEvent.click(await button("Look no more"));
    expect(ChannelEnd.last.readyState).toBe(3);
    expect(screen.queryByRole("table")).toBeNull();
  });
});

describe("the services of a host", () => {
  const one = (name: string, more: Partial<HostService> = {}) =>
    ({ name, description: "", state: "runs", start: "with-system", ...more }) as HostService;
  const open = async (...services: HostService[]) => {
    show(<ServicePanel host={host} />);
    await look("services");
    says({ services });
    return screen.findByRole("group", { name: "Services of quay-ticket-01" });
  };

  it("are shown with what has failed first, and narrowed to trouble", async () => {
    const list = await open(one("cron"), one("till", { state: "failed" }), one("ntp", { state: "stopped" }));
    const names = () =>
      within(list)
        .getAllByRole("button")
        .map((b) => b.querySelector("b")?.textContent);
    expect(names()).toEqual(["till", "cron", "ntp"]);
    expect(screen.getByText("3 services, 1 has failed")).toBeVisible();
    await userEvent.click(screen.getByRole("radio", { name: "Trouble" }));
    expect(names()).toEqual(["till"]);
    await userEvent.type(screen.getByRole("textbox", { name: "Find among the services" }), "cron");
    expect(screen.getByText("None of the services is such a one.")).toBeVisible();
  });

  it("are started and stopped, and what makes no sense says why", async () => {
    await open(one("till", { state: "stopped", start: "never" }), one("cron"));
    await userEvent.click(await button(/^till/));
    const acts = within(screen.getByRole("group", { name: "till on quay-ticket-01 of Saltmarsh Ferry" }));
    expect(acts.getByRole("button", { name: "Start" })).toHaveAttribute("title", "It was shut off for good (masked)");
    expect(acts.getByRole("button", { name: "Stop" })).toHaveAttribute("title", "It does not run");
    expect(acts.getByRole("link", { name: "On more hosts …" })).toHaveAttribute(
      "href",
      "/work/new?program=till&act=restart&on=in%20%22Saltmarsh%20Ferry%22",
    );
    await userEvent.click(await button(/^cron/));
    await userEvent.click(await button("Restart"));
    await vi.waitFor(() => expect(jobs()).toHaveLength(1));
    expect(jobs()[0]).toMatchObject({ command: { action: { service: { name: "cron", act: "restart" } } } });
  });
});

it("of a host that is away can't be looked at, and the button says why", async () => {
  show(<ProcessPanel host={quayHost("quay-ticket-01", { presence: { state: "away" } })} />);
  expect(await button("Look at the processes of quay-ticket-01")).toHaveAttribute("title", "quay-ticket-01 is away");
});
