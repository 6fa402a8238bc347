import { act, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { JobChanges, JobInfo, RunCounts, RunInfo, RunState } from "../api/types";
import { type Answering, answering, runCounts, show, withRoom } from "../test-pages";
import { inOrder, JobPage } from "./JobPage";

interface Line {
  stream: string;
  args: unknown[];
  says: (changes: JobChanges) => void;
  state: (state: string, why?: string) => void;
}

const lines = vi.hoisted(() => [] as Line[]);
vi.mock("../api/live", () => ({
  follow: (stream: string, args: unknown[], says: Line["says"], state: Line["state"]) => {
    lines.push({ stream, args, says, state });
    return () => undefined;
  },
}));

let service: Answering;

const QUAY = "Saltmarsh Ferry/Quay";
const run = (label: string, state: RunState, more: object = {}) =>
  ({
    id: `run-${label}`,
    hostId: label,
    hostLabel: label,
    systemName: label,
    groupPath: QUAY,
    state,
    stdoutBytes: 0,
    stderrBytes: 0,
    ...more,
  }) as unknown as RunInfo;
const job = (runs: Partial<RunCounts>, more: object = {}) =>
  ({
    id: "j",
    commandText: "df -h",
    command: { line: "df -h" },
    selection: `in "${QUAY}"`,
    createdAt: "2026-11-28T08:00:00Z",
    createdBy: "Ines Okafor",
    runs: runCounts(runs),
    ...more,
  }) as unknown as JobInfo;

const line = (stream: string) => {
  const found = lines.findLast((l) => l.stream === stream);
  if (!found) throw new Error(`nothing follows ${stream}`);
  return found;
};
const comes = (of: JobInfo, runs: RunInfo[], output: object[] = [], stream = "JobBoard") =>
  act(() => line(stream).says({ reset: true, job: of, runs, output, finished: false } as unknown as JobChanges));

beforeEach(() => {
  lines.length = 0;
  withRoom();
  service = answering();
  service.answers["GET me"] = [200, { name: "Ines Okafor", everywhere: [], anywhere: ["run", "use-secrets"] }];
  service.answers["GET groups"] = [200, { items: [{ id: "q", path: QUAY, name: "Quay", may: ["see", "run"] }] }];
});
afterEach(() => {
  vi.unstubAllGlobals();
  vi.restoreAllMocks();
});

const asked = (method: string, path: string) => service.asked.filter((a) => a.method === method && a.path === path);
const open = (query = "") =>
  show(
    <Routes>
      <Route path="/work/:id" element={<JobPage />} />
    </Routes>,
    `/work/j${query}`,
  );
const hosts = () =>
  within(screen.getByRole("group", { name: "Hosts" }))
    .getAllByRole("button")
    .map((b) => b.querySelector("b")?.textContent);

it("puts trouble first, then what is open, then the rest, each by name", () => {
  const runs = [
    run("kiosk-10", "succeeded"),
    run("kiosk-9", "succeeded"),
    run("till", "running"),
    run("gate", "cancelled"),
    run("pump", "failed"),
    run("lamp", "timed-out"),
  ];
  expect(inOrder(runs).map((r) => r.hostLabel)).toEqual(["lamp", "pump", "till", "gate", "kiosk-9", "kiosk-10"]);
});

describe("a job", () => {
  it("says what it waits for before there is anything, and why it can't be shown", () => {
    open();
    expect(screen.getByText("Asking the service …")).toBeVisible();
    act(() => line("JobBoard").state("broken", "There is no such job."));
    expect(screen.getByText(/There is no such job\./)).toBeVisible();
    act(() => line("JobBoard").state("broken"));
    expect(screen.getByText(/The line to the service is broken; trying again\./)).toBeVisible();
  });

  it("has nothing in its command that turns lines round", async () => {
    open();
    const text = "echo \u202Eevil";
    comes(job({ running: 1 }, { commandText: text, command: { script: text } }), [run("quay-ticket-01", "running")]);
    const heading = await screen.findByRole("heading", { level: 1 });
    expect(heading.textContent).toBe("echo \u2426evil");
    await userEvent.click(screen.getByText("The script"));
    expect(document.querySelector("details pre")?.textContent).toContain("echo \u2426evil");
  });

  it("says of a host what it printed, that nothing was, or that it is not kept any longer", async () => {
    open("?view=hosts");
    comes(job({ succeeded: 2 }), [
      run("quay-ticket-01", "succeeded", { stdoutBytes: 40, outputGone: true }),
      run("quay-ticket-02", "succeeded"),
    ]);
    await vi.waitFor(() => expect(screen.getByText("What it printed is not kept any longer.")).toBeVisible());
    expect(screen.queryByRole("link", { name: /download/ })).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: /quay-ticket-02/ }));
    await vi.waitFor(() => expect(screen.getByText("It printed nothing.")).toBeVisible());
  });

  it("is ended on the hosts where it still goes on", async () => {
    open();
    comes(job({ running: 1, waiting: 1, succeeded: 1 }), [
      run("quay-ticket-01", "running"),
      run("quay-ticket-02", "waiting"),
      run("quay-ticket-03", "succeeded"),
    ]);
    service.answers["POST jobs/j/cancel"] = [403, { detail: "You may not run commands on quay-ticket-02." }];
    await userEvent.click(await screen.findByRole("button", { name: "End it on 2 hosts" }));
    expect(await screen.findByText("You may not run commands on quay-ticket-02.")).toBeVisible();
  });

  it("is run again where it failed, with keys from the vault where hosts refused it", async () => {
    open();
    comes(job({ failed: 1, refused: 1 }), [run("quay-ticket-01", "failed", { exitStatus: 2 }), run("gate", "refused")]);
    service.answers["POST jobs/j/again"] = [409, { detail: "The selection names no host any more." }];
    await userEvent.click(await screen.findByRole("button", { name: "Run again where it failed, on 2 hosts" }));
    expect(await screen.findByText("The selection names no host any more.")).toBeVisible();
    await userEvent.click(screen.getAllByRole("button", { name: "… with keys from the vault" })[0] as HTMLElement);
    await vi.waitFor(() => expect(asked("POST", "jobs/j/again")).toHaveLength(2));
    const bodies = asked("POST", "jobs/j/again").map((a) => a.body);
    expect(bodies).toEqual([
      { runs: null, expiresInSeconds: null, seals: null, usesVault: false },
      { runs: null, expiresInSeconds: null, seals: null, usesVault: true },
    ]);
    // Each press is a job of its own, whatever the line does to it.
    const keys = asked("POST", "jobs/j/again").map((a) => a.headers.get("Idempotency-Key"));
    expect(new Set(keys).size).toBe(2);
  });

  it("shows those of one state when it is pressed, and all again after", async () => {
    open("?view=hosts");
    comes(job({ failed: 1, succeeded: 2 }), [
      run("quay-ticket-01", "succeeded"),
      run("quay-ticket-02", "succeeded"),
      run("quay-ticket-03", "failed", { exitStatus: 1 }),
    ]);
    expect(screen.getByRole("img", { name: "3 of 3 have ended" })).toBeVisible();
    expect(hosts()).toEqual(["quay-ticket-03", "quay-ticket-01", "quay-ticket-02"]);
    await userEvent.click(screen.getByRole("button", { name: "2 succeeded" }));
    expect(hosts()).toEqual(["quay-ticket-01", "quay-ticket-02"]);
    await userEvent.click(screen.getByRole("button", { name: "2 succeeded" }));
    expect(hosts()).toHaveLength(3);
  });

  it("shows what a host prints as it comes, and why it stands as it does", async () => {
    open("?view=hosts");
    const two = [run("quay-ticket-01", "running"), run("quay-ticket-02", "waiting", { reason: "it is away" })];
    comes(job({ running: 1, waiting: 1 }), two);
    await vi.waitFor(() => expect(line("Run").args).toEqual(["run-quay-ticket-01"]));
    const text = (sequence: number, data: string, stream = "stdout") => ({
      runId: "run-quay-ticket-01",
      sequence,
      stream,
      data: btoa(data),
    });
    comes(job({}), [], [text(1, "one\n"), text(2, "oh\n", "stderr")], "Run");
    const output = screen.getByLabelText("Output of quay-ticket-01");
    expect(output).toHaveTextContent("one oh");
    expect(output.querySelector(".stderr")).toHaveTextContent("oh");
    await userEvent.click(screen.getByRole("button", { name: /^quay-ticket-02/ }));
    expect(within(screen.getByRole("region", { name: "Run on quay-ticket-02" })).getByText("it is away")).toBeVisible();
    await vi.waitFor(() => expect(line("Run").args).toEqual(["run-quay-ticket-02"]));
  });

  it("has its output not asked for by who may not read it, and says why", async () => {
    service.answers["GET me"] = [200, { name: "Ade Brandt", everywhere: [], anywhere: ["see"] }];
    service.answers["GET groups"] = [200, { items: [{ id: "q", path: QUAY, name: "Quay", may: ["see"] }] }];
    service.answers["GET hosts/quay-ticket-01/access"] = [
      200,
      { answers: [{ permission: "run", sentence: "Your grants there hold no run.", remedy: "Ask Ines." }] },
    ];
    open();
    comes(job({ succeeded: 2 }), [run("quay-ticket-01", "succeeded"), run("quay-ticket-02", "succeeded")]);
    expect(await screen.findByText("Your grants there hold no run. Ask Ines.")).toBeVisible();
    expect(lines.filter((l) => l.stream === "Run")).toEqual([]);
    expect(screen.queryByRole("radiogroup", { name: "View" })).toBeNull();
    expect(screen.queryByRole("link", { name: /ZIP/ })).toBeNull();
  });
});

describe("the answers", () => {
  const fold = (runs: string[], more: object = {}) => ({
    runs: runs.map((r) => `run-${r}`),
    state: "succeeded",
    exitStatus: 0,
    bytes: 0,
    lines: 0,
    variants: 1,
    cut: false,
    reason: null,
    ...more,
  });
  const three = [
    run("quay-ticket-01", "succeeded"),
    run("quay-ticket-02", "succeeded"),
    run("quay-ticket-03", "failed", { exitStatus: 1 }),
  ];

  it("are folded, and what is passed over is chosen", async () => {
    service.answers["GET jobs/j/answers"] = [
      200,
      {
        folds: [
          fold(["quay-ticket-03"], { state: "failed", exitStatus: 1, reason: "no such disk" }),
          fold(["quay-ticket-01", "quay-ticket-02"]),
        ],
        open: 1,
        hidden: 3,
      },
    ];
    open();
    comes(job({ failed: 1, succeeded: 2 }), three);
    const odd = await screen.findByRole("region", { name: "Answer of quay-ticket-03" });
    expect(odd).toHaveTextContent("1 host failed (1)");
    expect(odd).toHaveTextContent("no such disk");
    const usual = screen.getByRole("region", { name: "Answer of 2 hosts" });
    expect(usual).toHaveTextContent("printed nothing");
    expect(within(usual).getByRole("link", { name: /^quay-ticket-02/ })).toHaveAttribute(
      "href",
      "/work/j?view=hosts&run=run-quay-ticket-02",
    );
    expect(screen.getByText(/1 run has not ended\. The output of 3 hosts is not yours to read\./)).toBeVisible();
    const before = asked("GET", "jobs/j/answers").length;
    await userEvent.click(screen.getAllByRole("checkbox")[0] as HTMLElement);
    await vi.waitFor(() => expect(asked("GET", "jobs/j/answers").length).toBeGreaterThan(before));

    service.answers["POST jobs/j/again"] = [409, { detail: "quay-ticket-03 is retired." }];
    await userEvent.click(within(odd).getByRole("button", { name: "Run again on quay-ticket-03" }));
    expect(await within(odd).findByText("quay-ticket-03 is retired.")).toBeVisible();
    expect(asked("POST", "jobs/j/again").at(-1)?.body).toMatchObject({ runs: ["run-quay-ticket-03"] });
  });

  it("say whose output is not kept any longer", async () => {
    service.answers["GET jobs/j/answers"] = [200, { folds: [], open: 0, hidden: 0, gone: 3 }];
    open();
    comes(job({ succeeded: 3 }), three);
    expect(await screen.findByText("What 3 hosts printed is not kept any longer.")).toBeVisible();
    expect(screen.queryByText("No host has answered yet")).toBeNull();
  });

  it("show of an odd one what differs from the usual one, or all of it", async () => {
    const printed = { stdoutBytes: 4, bytes: 4, lines: 1 };
    service.answers["GET jobs/j/answers"] = [
      200,
      {
        folds: [fold(["quay-ticket-03"], printed), fold(["quay-ticket-01", "quay-ticket-02"], printed)],
        open: 0,
        hidden: 0,
      },
    ];
    service.answers["GET runs/run-quay-ticket-03/comparison"] = [
      200,
      {
        first: { hostLabel: "quay-ticket-03" },
        second: { hostLabel: "quay-ticket-01" },
        streams: [{ stream: "stdout", lines: [{ kind: "first", text: "odd", first: 1 }] }],
        cut: false,
      },
    ];
    service.answers["GET runs/run-quay-ticket-03/output"] = [200, "odd"];
    service.answers["GET runs/run-quay-ticket-01/output"] = [200, "usual"];
    open();
    comes(job({ succeeded: 3 }), three);
    const odd = await screen.findByRole("region", { name: "Answer of quay-ticket-03" });
    expect(await within(odd).findByRole("table", { name: "stdout of both" })).toHaveTextContent("odd");
    await userEvent.click(within(odd).getByRole("button", { name: "All that quay-ticket-03 printed" }));
    expect(await within(odd).findByText('"odd"')).toBeVisible();
    expect(within(odd).getByRole("button", { name: "What differs from quay-ticket-01" })).toBeVisible();
  });

  it("say so where nobody has answered yet", async () => {
    service.answers["GET jobs/j/answers"] = [200, { folds: [], open: 3, hidden: 0 }];
    open();
    comes(job({ running: 3 }), three);
    expect(await screen.findByText("No host has answered yet")).toBeVisible();
  });
});

describe("what hosts printed", () => {
  it("is searched for a text", async () => {
    open("?view=search");
    comes(job({ succeeded: 2 }), [run("quay-ticket-01", "succeeded"), run("quay-ticket-02", "succeeded")]);
    expect(await screen.findByRole("button", { name: "Find" })).toHaveAttribute("title", "Write a text first");
    service.answers["GET jobs/j/search"] = [200, { lines: [], hosts: 0, more: false }];
    await userEvent.type(screen.getByRole("textbox", { name: "Text in the output of any host" }), "full{Enter}");
    expect(await screen.findByText("No host printed “full”")).toBeVisible();
    const found = {
      runId: "run-quay-ticket-02",
      hostLabel: "quay-ticket-02",
      stream: "stdout",
      line: 7,
      text: "fuller",
    };
    service.answers["GET jobs/j/search"] = [200, { lines: [found], hosts: 1, more: true }];
    await userEvent.type(screen.getByRole("textbox"), "er{Enter}");
    expect(await screen.findByRole("status")).toHaveTextContent("1 line on 1 host; there are more");
    expect(screen.getByRole("link", { name: /^quay-ticket-02/ })).toHaveAttribute(
      "href",
      "/work/j?view=hosts&run=run-quay-ticket-02",
    );
  });
});
