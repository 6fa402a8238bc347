import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { RunbookStep, StepStatus } from "../api/types";
import { type Answering, answering, show } from "../test-pages";
import { NewRunbookPage, NextRunbookPage } from "./RunbookEditor";
import { ScriptPage } from "./ScriptPage";
import { ScriptsPage } from "./ScriptsPage";
import { conditionWords, countSteps, placeOf, runbookShelf, scriptShelf, whenWords } from "./steps";
import { RunSteps, StepBoard } from "./StepsView";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

const look: RunbookStep = {
  name: "Look \u202E",
  text: "systemctl is-active x\n",
  mayFail: true,
  tries: 1,
  note: "By day.",
};
const start: RunbookStep = {
  name: "Start it",
  text: "print('x')\n",
  shell: "python3",
  mayFail: false,
  tries: 3,
  pauseSeconds: 0.5,
  timeoutSeconds: 90,
  when: [{ kind: "failed", of: "Look" }],
};
const steps = [look, start];
const status = (index: number, state: StepStatus["state"], more: Partial<StepStatus> = {}): StepStatus => ({
  index,
  state,
  tries: 1,
  startedAt: "2026-11-20T08:00:00Z",
  endedAt: "2026-11-20T08:00:02.5Z",
  exitStatus: null,
  reason: null,
  ...more,
});

describe("what is said of steps", () => {
  it("writes conditions as the document does", () => {
    expect(conditionWords({ kind: "always" })).toBe("always");
    expect(conditionWords({ kind: "something-failed" })).toBe("something failed");
    expect(conditionWords({ kind: "succeeded", of: "Look" })).toBe("“Look” succeeded");
    expect(conditionWords({ kind: "left-out", of: "Look" })).toBe("“Look” was left out");
    expect(conditionWords({ kind: "exit", of: "Look", exits: [3, 4] })).toBe("“Look” ended with 3, 4");
    expect(conditionWords({ kind: "is", of: "MODE", value: "full" })).toBe("MODE is full");
    expect(conditionWords({ kind: "is-not", of: "MODE", value: "full" })).toBe("MODE is not full");
    expect(conditionWords({ kind: "is", of: "MODE", value: "" })).toBe("MODE has no value");
    expect(conditionWords({ kind: "is-not", of: "MODE" })).toBe("MODE has a value");
  });

  it("says when a step runs, and how", () => {
    expect(whenWords(look)).toBe("when nothing failed before; may fail");
    expect(whenWords(look, true)).toBe("at the beginning; may fail");
    expect(whenWords({ ...look, when: [{ kind: "is", of: "A", value: "b" }] }, true)).toBe("when A is b; may fail");
    expect(whenWords(start)).toBe("when “Look” failed; tried 3 times, 0.5 s apart; ended after 90 s");
    expect(whenWords({ ...look, when: [{ kind: "always" }] })).toBe("always; may fail");
    expect(whenWords({ ...look, mayFail: false, when: [{ kind: "is", of: "MODE", value: "x" }] })).toBe(
      "when nothing failed before and MODE is x",
    );
  });

  it("says where a run stands only while there is something to say", () => {
    expect(placeOf({ state: "running", steps: [status(0, "failed"), status(1, "running")] }, steps)).toBe(
      "step 2 of 2, Start it: running",
    );
    expect(placeOf({ state: "failed", steps: [status(0, "failed"), status(1, "timed-out")] }, steps)).toBe(
      "step 2 of 2, Start it: timed out",
    );
    expect(placeOf({ state: "succeeded", steps: [status(0, "failed"), status(1, "succeeded")] }, steps)).toBe("");
    expect(placeOf({ state: "waiting", steps: null }, steps)).toBe("");
  });

  it("counts hosts by step", () => {
    const runs = [
      { steps: [status(0, "failed"), status(1, "succeeded")] },
      { steps: [status(0, "succeeded"), status(1, "left-out")] },
      { steps: [status(0, "running")] },
      { steps: null },
      { steps: [status(0, "stopped")] },
    ];
    expect(countSteps(steps, runs)).toEqual([
      { name: look.name, succeeded: 1, failed: 1, leftOut: 0, running: 1, stopped: 1, notReached: 1 },
      { name: "Start it", succeeded: 1, failed: 0, leftOut: 1, running: 0, stopped: 0, notReached: 3 },
    ]);
  });
});

describe("steps of a job", () => {
  it("shows on how many hosts each step ended, and how", () => {
    show(<StepBoard steps={steps} runs={[{ steps: [status(0, "failed"), status(1, "failed")] } as never]} />, "/");
    const rows = within(screen.getByRole("table")).getAllByRole("row");
    expect(rows[1]).toHaveTextContent("1 Look ␦ may fail–1–––");
    expect(within(rows[1] as HTMLElement).getByText("1")).not.toHaveClass("trouble");
    expect(within(rows[2] as HTMLElement).getByText("1")).toHaveClass("trouble");
  });

  it("shows on one host what became of each", () => {
    const reached = [status(0, "failed", { exitStatus: 3 }), status(1, "succeeded", { tries: 2, exitStatus: 0 })];
    show(<RunSteps steps={[...steps, { ...look, name: "Tell" }]} reached={reached} />, "/");
    const [first, second, third] = screen.getAllByRole("listitem");
    expect(first).toHaveTextContent("failed (3) after 2.5 s");
    expect(second).toHaveTextContent("succeeded in try 2 of 3 after 2.5 s");
    expect(third).toHaveTextContent("3 Tell");
    expect(third).toHaveTextContent("not reached");
  });
});

describe("the library of runbooks", () => {
  let service: Answering;
  const script = {
    id: "a",
    name: "Bring a unit back",
    owner: "Ines Okafor",
    sharing: [],
    parameters: [],
    latest: 1,
    version: 5,
    jobs: 0,
    mayChange: true,
    mayGovern: true,
    steps: 2,
  };
  const detail = {
    script,
    shown: { number: 1, command: { steps }, parameters: [] },
    versions: [
      { number: 1, note: null, lines: 2, steps: 2, createdAt: "2026-11-19T08:00:00Z", createdBy: "Ines Okafor" },
    ],
  };

  beforeEach(() => {
    service = answering();
    service.answers["GET me"] = [200, { name: "Ines Okafor", everywhere: [], anywhere: ["run"] }];
    service.answers["GET scripts"] = [200, { items: [script, { ...script, id: "b", name: "tidy up", steps: null }] }];
    service.answers["GET scripts/a"] = [200, detail];
    service.answers["POST scripts/document"] = [
      200,
      { title: "Bring a unit back", description: "For quays.", parameters: [], command: { steps } },
    ];
  });
  afterEach(() => vi.unstubAllGlobals());

  const asked = (method: string, path: string) => service.asked.filter((a) => a.method === method && a.path === path);
  const at = (path: string) =>
    show(
      <Routes>
        <Route path="/work/scripts" element={<ScriptsPage shelf={scriptShelf} />} />
        <Route path="/work/runbooks" element={<ScriptsPage shelf={runbookShelf} />} />
        <Route path="/work/runbooks/new" element={<NewRunbookPage />} />
        <Route path="/work/runbooks/:id" element={<ScriptPage />} />
        <Route path="/work/runbooks/:id/edit" element={<NextRunbookPage />} />
      </Routes>,
      path,
    );

  it("keeps scripts and runbooks apart", async () => {
    at("/work/runbooks");
    const row = await screen.findByRole("link", { name: /Bring a unit back/ });
    expect(row).toHaveAttribute("href", "/work/runbooks/a");
    expect(row).toHaveTextContent("2 steps, no parameters");
    expect(screen.queryByText("tidy up")).toBeNull();
  });

  it("shows the steps, with nothing that turns lines round", async () => {
    at("/work/runbooks/a");
    expect(await screen.findByText("at the beginning; may fail")).toBeVisible();
    const list = screen.getByRole("list", { name: "Steps" });
    expect(list).toHaveTextContent("By day.");
    expect(list).toHaveTextContent("read by python3");
    expect(list.textContent).not.toContain("\u202E");
    expect(screen.getByRole("link", { name: "As a document" })).toHaveAttribute(
      "href",
      "/api/v1/scripts/a/document?number=1",
    );
  });

  it("keeps a new one under its title", async () => {
    service.answers["POST scripts"] = [201, detail];
    at("/work/runbooks/new");
    const person = userEvent.setup();
    expect(await screen.findByText("when “Look” failed; tried 3 times, 0.5 s apart; ended after 90 s")).toBeVisible();
    await person.click(screen.getByRole("button", { name: "Keep the runbook" }));
    // Only the page of a runbook that is kept has this; the steps stand on the page before it, too.
    expect(await screen.findByRole("link", { name: "As a document" })).toBeVisible();
    expect(screen.getByText("at the beginning; may fail")).toBeVisible();
    expect(asked("POST", "scripts")[0]?.body).toMatchObject({
      name: "Bring a unit back",
      description: "For quays.",
      command: { steps: [{ name: look.name }, { name: "Start it" }] },
    });
  });

  it("says what can't be read, and keeps what is being written", async () => {
    service.answers["POST scripts/document"] = [400, { title: "Bad request", detail: "Line 2: 'if' is nothing." }];
    at("/work/runbooks/new");
    const person = userEvent.setup();
    const text = await screen.findByRole("textbox", { name: "Runbook" });
    expect(await screen.findByText(/Line 2/)).toBeVisible();
    await person.type(text, "x");
    await person.click(screen.getByRole("button", { name: "Keep the runbook" }));
    expect((await screen.findAllByText(/Line 2/)).length).toBeGreaterThan(0);
    expect(asked("POST", "scripts")).toEqual([]);
    expect((text as HTMLTextAreaElement).value).toContain("## Start it");
    await person.clear(text);
    expect(screen.getByRole("button", { name: "Keep the runbook" })).toBeDisabled();
    expect(screen.getByText("Write the runbook first")).toBeVisible();
  });

  it("writes the next version from the document, of what was read", async () => {
    service.answers["GET scripts/a/document"] = [200, "# Bring a unit back\n", true];
    service.answers["POST scripts/a/versions"] = [200, detail];
    at("/work/runbooks/a/edit");
    const person = userEvent.setup();
    expect(await screen.findByRole("textbox", { name: "Runbook" })).toHaveValue("# Bring a unit back\n");
    await person.type(screen.getByRole("textbox", { name: "What is new" }), "asks thrice");
    await person.click(screen.getByRole("button", { name: "Keep version 2" }));
    expect(await screen.findByRole("heading", { name: "Bring a unit back" })).toBeVisible();
    const [sent] = asked("POST", "scripts/a/versions");
    expect(sent?.body).toMatchObject({ note: "asks thrice" });
    expect(sent?.headers.get("If-Match")).toBe('"5"');
  });

  it("does not give it another name by its title", async () => {
    service.answers["GET scripts/a/document"] = [200, "# Bring a unit back\n", true];
    service.answers["POST scripts/document"] = [200, { title: "Other", parameters: [], command: { steps } }];
    at("/work/runbooks/a/edit");
    await userEvent.click(await screen.findByRole("button", { name: "Keep version 2" }));
    expect(await screen.findByText(/The document's title is “Other”/)).toBeVisible();
    expect(asked("POST", "scripts/a/versions")).toEqual([]);
  });
});
