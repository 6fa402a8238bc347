import { act, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { follow } from "../api/live";
import type { HostSummary, SelectionChanges } from "../api/types";
import { type Answering, answering, show } from "../test-pages";
import { whole } from "../parts/number";
import { NewJobPage } from "./NewJobPage";
import { PowerPanel } from "./PowerPanel";
import { turnsOf } from "./TurnFields";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

let service: Answering;

beforeEach(() => {
  vi.mocked(follow).mockClear();
  service = answering();
  service.answers["GET selections/completions"] = [200, { from: 0, to: 0, items: [] }];
  service.answers["GET me"] = [200, { name: "Ines Okafor", anywhere: ["run"], everywhere: [] }];
});
afterEach(() => {
  vi.unstubAllGlobals();
});

const jobs = () => service.asked.filter((a) => a.method === "POST" && a.path === "jobs");

describe("numbers that were typed", () => {
  it.each([
    ["", null],
    [" ", null],
    ["05", 5],
    ["1.", 1],
    [0, 0],
    [-5, -5],
    ["-", null],
  ])("%j is %j", (typed, number) => expect(whole(typed)).toBe(number));

  it("say how a job takes turns, and nothing where nothing was typed", () => {
    const none = { atOnce: "", onePerGroup: false, stopAfter: "", hours: "", usesVault: false };
    expect(turnsOf(none)).toEqual({ expiresInSeconds: null, usesVault: false, pace: null });
    expect(turnsOf({ ...none, atOnce: "02", hours: 1.5 })).toEqual({
      expiresInSeconds: 5400,
      usesVault: false,
      pace: { atOnce: 2, onePerGroup: false, stopAfterFailures: null },
    });
  });
});

describe("a new job", () => {
  const open = (query: string) =>
    show(
      <Routes>
        <Route path="/work/new" element={<NewJobPage />} />
        <Route path="/work/:id" element="the job" />
      </Routes>,
      `/work/new${query}`,
    );

  /** What the service says of the selection that is shown. */
  const selects = async (...added: string[]) => {
    const line = () => vi.mocked(follow).mock.calls.findLast(([stream]) => stream === "Selected");
    await waitFor(() => {
      expect(line()).toBeDefined();
    });
    act(() => (line()?.[2] as (c: SelectionChanges) => void)({ reset: true, added, removed: [] }));
  };
  const button = () => screen.getAllByRole("button").at(-1) as HTMLElement;

  it("says what is missing, one after the other, and runs once with all that was said", async () => {
    open("?on=tagged%20till");
    expect(button()).toBeDisabled();
    await selects("a", "b");
    expect(screen.getByText("2 hosts now")).toBeVisible();
    expect(button()).toHaveAttribute("title", "Write a command first");
    await userEvent.type(screen.getByRole("textbox", { name: "Command line" }), "df -h");
    await userEvent.type(screen.getByRole("textbox", { name: "Variables of its environment", hidden: true }), "TIDE");
    expect(button()).toHaveAttribute("title", "“TIDE” sets no variable; write NAME=VALUE.");
    await userEvent.type(screen.getByRole("textbox", { name: "Variables of its environment", hidden: true }), "=ebb");
    await userEvent.type(screen.getByLabelText("Time-out, minutes"), "05");
    await userEvent.type(screen.getByLabelText("Hosts at the same time"), "1");
    expect(screen.getByLabelText("As which system user")).toBeDisabled();
    expect(screen.getByText("You may not choose one (permission choose-user)")).toBeInTheDocument();
    service.answers["POST jobs"] = [409, { detail: "quay-ticket-03 asks for its access key." }];
    await userEvent.click(screen.getByRole("button", { name: "Run on 2 hosts" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("quay-ticket-03 asks for its access key.");
    service.answers["POST jobs"] = [200, { id: "j1" }];
    await userEvent.click(screen.getByRole("button", { name: "Run on 2 hosts" }));
    expect(await screen.findByText("the job")).toBeVisible();
    expect(jobs().at(-1)?.body).toEqual({
      selection: "tagged till",
      command: { line: "df -h", environment: { TIDE: "ebb" }, timeoutSeconds: 300 },
      expiresInSeconds: null,
      usesVault: false,
      pace: { atOnce: 1, onePerGroup: false, stopAfterFailures: null },
      seals: null,
      script: null,
    });
    // Each press is one job, whatever becomes of the answer.
    expect(new Set(jobs().map((j) => j.headers.get("Idempotency-Key"))).size).toBe(2);
  });

  it("is none where the selection names nobody, or can't be read", async () => {
    open("?on=tagged%20tlil&program=cups&act=restart");
    await selects();
    expect(button()).toHaveAttribute("title", "The selection names no host");
    const line = vi.mocked(follow).mock.calls.findLast(([stream]) => stream === "Selected");
    act(() =>
      (line?.[3] as (s: string, why?: string) => void)("broken", "Error: HubException: There is no word 'tlil'."),
    );
    expect(button()).toHaveAttribute("title", "There is no word 'tlil'.");
  });

  it("about a service is that service's", async () => {
    open("?on=all&program=cups&act=restart");
    await selects("a");
    service.answers["POST jobs"] = [200, { id: "j1" }];
    await userEvent.click(screen.getByRole("button", { name: "Run on 1 host" }));
    expect(await screen.findByText("the job")).toBeVisible();
    expect(jobs()[0]?.body).toMatchObject({ command: { action: { service: { name: "cups", act: "restart" } } } });
  });

  it("about power names what it does, and what is lost", async () => {
    open("?on=all&power=shut-down");
    await selects("a", "b", "c");
    expect(screen.getByText(/somebody has to switch it on, or wake it/)).toBeVisible();
    service.answers["POST jobs"] = [200, { id: "j1" }];
    await userEvent.click(screen.getByRole("button", { name: "Shut down 3 hosts" }));
    expect(await screen.findByText("the job")).toBeVisible();
    expect(jobs()[0]?.body).toMatchObject({ command: { action: { power: { act: "shut-down", graceSeconds: 60 } } } });
  });
});

describe("the power of a host", () => {
  const host = {
    id: "h",
    label: "quay-ticket-03",
    groupPath: "Saltmarsh Ferry/Quay",
    users: ["jo"],
    presence: { state: "linked" },
  } as unknown as HostSummary;
  const open = (state = "linked", policy: object = { keyFor: [] }, may = ["power"]) => {
    service.answers["GET groups"] = [200, { items: [{ id: "g", path: host.groupPath, name: "Quay", hosts: 1, may }] }];
    service.answers["GET hosts/h/policy"] = [200, { side: { inForce: policy }, wanted: policy }];
    service.answers["GET hosts/h/access"] = [
      200,
      { answers: [{ permission: "power", sentence: "You may not restart it." }] },
    ];
    service.answers["GET secrets"] = [200, { items: [] }];
    show(<PowerPanel host={{ ...host, presence: { ...host.presence, state } as HostSummary["presence"] }} />);
  };

  it("is used with whose host it is in the button, and with what people there may do about it", async () => {
    open("linked", { keyFor: [], putOffMinutes: 90 });
    await userEvent.click(await screen.findByRole("button", { name: "Restart …" }));
    expect(await screen.findByText(/jo may put it off by 1 h 30 min in all/)).toBeVisible();
    await userEvent.clear(screen.getByLabelText("Time before it, minutes"));
    await userEvent.type(screen.getByLabelText("Time before it, minutes"), "5");
    await userEvent.type(screen.getByLabelText("What they are told why"), "new printer driver");
    service.answers["POST jobs"] = [409, { detail: "It went away just now." }];
    await userEvent.click(screen.getByRole("button", { name: "Restart quay-ticket-03 of Saltmarsh Ferry" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("It went away just now.");
    expect(jobs()[0]?.body).toMatchObject({
      selection: '"quay-ticket-03" and in "Saltmarsh Ferry/Quay"',
      command: { action: { power: { act: "restart", graceSeconds: 300, message: "new printer driver" } } },
      expiresInSeconds: 60,
    });
  });

  it("takes the host's key first, where it asks for one", async () => {
    open("linked", { keyFor: ["power"] });
    await userEvent.click(await screen.findByRole("button", { name: "Lock the screen …" }));
    await waitFor(() => {
      expect(screen.getByRole("button", { name: /^Lock every screen of/ })).toBeDisabled();
    });
    expect(screen.getByRole("button", { name: /^Lock every screen of/ })).toHaveAttribute(
      "title",
      "quay-ticket-03 asks for its access key first",
    );
    expect(screen.getByText(/asks for its access key before it does any of this/)).toBeVisible();
  });

  it("of one that is away is the power of its neighbours to wake it", async () => {
    service.answers["GET hosts/h/wake"] = [
      200,
      { neighbours: [{ label: "quay-office-02" }, { label: "quay-office-02" }], problem: null },
    ];
    service.answers["POST wake"] = [409, { detail: "quay-office-02 went away too." }];
    open("away");
    expect(await screen.findByText(/quay-office-02 can send the packet that wakes it/)).toBeVisible();
    await userEvent.click(screen.getByRole("button", { name: "Wake quay-ticket-03 of Saltmarsh Ferry" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("quay-office-02 went away too.");
  });

  it("of one that nobody can wake says why", async () => {
    service.answers["GET hosts/h/wake"] = [200, { neighbours: [], problem: "has no neighbour that is linked." }];
    open("away");
    expect(await screen.findByText("quay-ticket-03 has no neighbour that is linked.")).toBeVisible();
    expect(screen.getByRole("button", { name: /^Wake/ })).toBeDisabled();
  });

  it("is not for who may not", async () => {
    open("linked", { keyFor: [] }, ["see"]);
    expect(await screen.findByText(/You may not restart it./)).toBeVisible();
    expect(screen.queryByRole("button", { name: "Restart …" })).toBeNull();
  });
});
