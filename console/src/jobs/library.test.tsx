import { act, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { type Answering, answering, choose, show } from "../test-pages";
import { NewScriptPage, NextVersionPage } from "./ScriptEditor";
import { ScriptPage } from "./ScriptPage";
import { ScriptsPage } from "./ScriptsPage";
import { scriptShelf } from "./steps";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

let service: Answering;

const days = { name: "DAYS", kind: "whole", least: 1, most: 90, optional: false, description: "how far back" };
const clear = {
  id: "a",
  name: "clear old exports",
  description: "Takes away what the log has exported",
  owner: "Ines Okafor",
  ownerId: "ines",
  sharing: [],
  parameters: [days],
  latest: 2,
  version: 5,
  jobs: 1,
  lastUsedAt: "2026-11-20T08:00:00Z",
  mayChange: true,
  mayGovern: true,
};
const version = (number: number, note: string | null, lines = 3) => ({
  number,
  note,
  lines,
  createdAt: "2026-11-19T08:00:00Z",
  createdBy: "Ines Okafor",
});
const detail = (more: object = {}, shown: object = {}) => ({
  script: { ...clear, ...more },
  shown: { number: 2, command: { script: "#!/bin/sh\nfind . \u202E" }, parameters: [days], ...shown },
  versions: [version(2, "also the old ones"), version(1, null, 1)],
});

beforeEach(() => {
  service = answering();
  service.answers["GET me"] = [200, { name: "Ines Okafor", everywhere: [], anywhere: ["run", "choose-user"] }];
  service.answers["GET scripts"] = [200, { items: [clear] }];
  service.answers["GET scripts/a"] = [200, detail()];
  service.answers["GET teams"] = [200, { items: [{ id: "coast", name: "Coast" }] }];
  service.answers["GET technicians"] = [
    200,
    {
      items: [
        { id: "ines", name: "Ines Okafor" },
        { id: "tomasz", name: "Tomasz Vail" },
      ],
    },
  ];
});
afterEach(() => vi.unstubAllGlobals());

const asked = (method: string, path: string) => service.asked.filter((a) => a.method === method && a.path === path);
const at = (path: string) =>
  show(
    <Routes>
      <Route path="/work/scripts" element={<ScriptsPage shelf={scriptShelf} />} />
      <Route path="/work/scripts/new" element={<NewScriptPage />} />
      <Route path="/work/scripts/:id" element={<ScriptPage />} />
      <Route path="/work/scripts/:id/edit" element={<NextVersionPage />} />
      <Route path="/work/new" element="a new job" />
    </Routes>,
    path,
  );

describe("the library", () => {
  it("shows what each script asks for, whose it is and how often it ran", async () => {
    at("/work/scripts");
    const row = await screen.findByRole("link", { name: /clear old exports/ });
    expect(row).toHaveAttribute("href", "/work/scripts/a");
    expect(row).toHaveTextContent("DAYS");
    expect(row).toHaveTextContent("for its owner alone");
    expect(row).toHaveTextContent("1 job, version 2");
    expect(screen.queryByRole("textbox", { name: "Find a script" })).toBeNull();
  });

  it("is searched by any words of a script, once it is long", async () => {
    const many = Array.from({ length: 7 }, (_, i) => ({
      ...clear,
      id: `s${i}`,
      name: `script ${i}`,
      lastUsedAt: null,
    }));
    service.answers["GET scripts"] = [200, { items: many }];
    at("/work/scripts");
    await userEvent.type(await screen.findByRole("textbox", { name: "Find a script" }), "days 3");
    expect(screen.getAllByRole("link", { name: /^script/ }).map((l) => l.getAttribute("href"))).toEqual([
      "/work/scripts/s3",
    ]);
    await userEvent.type(screen.getByRole("textbox", { name: "Find a script" }), "9");
    expect(screen.getByText("No script has “days 39” in it")).toBeVisible();
  });

  it("says so where it is empty, and to who may run nothing", async () => {
    service.answers["GET scripts"] = [200, { items: [] }];
    const { unmount } = at("/work/scripts");
    expect(await screen.findByText("No script is kept yet")).toBeVisible();
    unmount();
    service.answers["GET me"] = [200, { name: "Ade Brandt", everywhere: [], anywhere: ["see"] }];
    at("/work/scripts");
    expect(await screen.findByText("Scripts are for those who may run commands")).toBeVisible();
    expect(screen.queryByRole("link", { name: "New script" })).toBeNull();
  });
});

describe("a script", () => {
  it("shows its parameters and its text, with nothing in it that turns lines round", async () => {
    at("/work/scripts/a");
    const parameters = await screen.findByRole("table", { name: "Parameters" });
    expect(within(parameters).getAllByRole("row")[1]).toHaveTextContent("DAYSWhole number from 1 to 90asked for");
    expect(screen.getByLabelText("Text of version 2").textContent).not.toContain("\u202E");
    expect(screen.getByRole("link", { name: "Run it" })).toHaveAttribute("href", "/work/new?script=a");
  });

  it("is shown as an earlier version, which can be run as it was", async () => {
    at("/work/scripts/a");
    const earlier = await screen.findByRole("button", { name: "Show version 1" });
    const first = { number: 1, command: { script: "find ." }, parameters: [] };
    service.answers["GET scripts/a"] = [200, detail({}, first)];
    await userEvent.click(earlier);
    expect(await screen.findByRole("link", { name: "Run version 1" })).toHaveAttribute(
      "href",
      "/work/new?script=a&version=1",
    );
    expect(screen.queryByRole("table", { name: "Parameters" })).toBeNull();
  });

  it("has two versions compared, the older first whichever is shown", async () => {
    at("/work/scripts/a");
    service.answers["GET scripts/a/comparison"] = [
      200,
      {
        settings: [{ kind: "same", text: "DAYS", first: 1, second: 1 }],
        text: [{ kind: "second", text: "find . -mtime +14", second: 2 }],
      },
    ];
    await userEvent.click(await screen.findByRole("button", { name: "Compare 1 with 2" }));
    const compared = await screen.findByRole("table", { name: "text of both" });
    expect(compared).toHaveTextContent("find . -mtime +14");
    expect(screen.queryByRole("table", { name: "parameters and how it runs of both" })).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Back to the text" }));
    expect(await screen.findByLabelText("Text of version 2")).toBeVisible();
  });

  it("that somebody else owns is not renamed, shared or removed, and says who writes its versions", async () => {
    service.answers["GET scripts/a"] = [200, detail({ mayChange: false, mayGovern: false })];
    at("/work/scripts/a");
    expect(await screen.findByText(/Only Ines Okafor and those with whom it is shared for it/)).toBeVisible();
    for (const act of ["Name and sharing", "Remove", "Write the next version"])
      expect(screen.queryByText(act)).toBeNull();
  });

  it("is shared with a team and with everybody, each in its own way, and given away", async () => {
    service.answers["GET scripts/a"] = [200, detail({ sharing: [{ teamId: null, mayChange: false }] })];
    const { queries } = at("/work/scripts/a");
    await userEvent.click(await screen.findByRole("button", { name: "Name and sharing" }));
    service.answers["GET scripts/a"] = [200, detail({ version: 6, name: "renamed meanwhile" })];
    await act(() => queries.refetchQueries({ queryKey: ["scripts", "a"] }));
    expect(await screen.findByRole("combobox", { name: "Everybody who may run commands" })).toHaveValue("may run it");
    await choose(screen.getByRole("combobox", { name: "Everybody who may run commands" }), "does not see it");
    await choose(screen.getByRole("combobox", { name: "Team Coast" }), "may run and change it");
    await choose(screen.getByRole("combobox", { name: "Owner" }), "Tomasz Vail");
    service.answers["PUT scripts/a"] = [409, { detail: "Tomasz Vail has a script of that name." }];
    await userEvent.click(screen.getByRole("button", { name: "Change clear old exports" }));
    expect(await screen.findByText("Tomasz Vail has a script of that name.")).toBeVisible();
    expect(asked("PUT", "scripts/a")[0]?.headers.get("If-Match")).toBe('"5"');
    expect(asked("PUT", "scripts/a")[0]?.body).toEqual({
      name: "clear old exports",
      description: "Takes away what the log has exported",
      ownerId: "tomasz",
      sharing: [{ teamId: "coast", mayChange: true }],
    });
  });

  it("is removed only after what goes with it was said", async () => {
    at("/work/scripts/a");
    await userEvent.click(await screen.findByRole("button", { name: "Remove" }));
    const dialog = await screen.findByRole("dialog", { name: "Remove clear old exports" });
    expect(dialog).toHaveTextContent("All 2 versions go with it, for everybody who uses it.");
    service.answers["DELETE scripts/a"] = [204, undefined];
    service.answers["GET scripts"] = [200, { items: [] }];
    await userEvent.click(within(dialog).getByRole("button", { name: "Remove clear old exports" }));
    expect(await screen.findByText("No script is kept yet")).toBeVisible();
  });

  it("that there is not says so", async () => {
    service.answers["GET scripts/a"] = [404, { detail: "There is no such script." }];
    at("/work/scripts/a");
    expect(await screen.findByText("This script can't be shown")).toBeVisible();
  });
});

describe("writing a script", () => {
  const kept = () => asked("POST", "scripts").at(-1)?.body as { parameters: object[]; command: object };

  it("asks for a name and a text first", async () => {
    at("/work/scripts/new");
    expect(await screen.findByRole("button", { name: "Keep the script" })).toHaveAttribute(
      "title",
      "Give it a name first",
    );
    await userEvent.type(screen.getByRole("textbox", { name: "Name" }), "tide");
    await userEvent.clear(screen.getByRole("textbox", { name: "Script" }));
    expect(screen.getByRole("button", { name: "Keep the script" })).toHaveAttribute("title", "Write the script first");
  });

  it("has bounds with a comma's places and below nothing, typed as people type them", async () => {
    at("/work/scripts/new");
    await userEvent.type(await screen.findByRole("textbox", { name: "Name" }), "tide");
    await userEvent.click(screen.getByRole("button", { name: "Add a parameter" }));
    const parameter = within(screen.getByRole("group", { name: "Parameter 1" }));
    await userEvent.type(parameter.getByRole("textbox", { name: "Name" }), "LEVEL");
    await choose(parameter.getByRole("combobox", { name: "Kind" }), "Number");
    const named = within(screen.getByRole("group", { name: "Parameter LEVEL" }));
    await userEvent.type(named.getByRole("textbox", { name: "At least" }), "-0.5");
    await userEvent.type(named.getByRole("textbox", { name: "At most" }), "10.25");
    expect(named.getByRole("textbox", { name: "At least" })).toHaveValue("-0.5");
    service.answers["POST scripts"] = [201, detail()];
    await userEvent.click(screen.getByRole("button", { name: "Keep the script" }));
    expect(await screen.findByRole("heading", { name: "clear old exports" })).toBeVisible();
    expect(kept().parameters).toEqual([
      { name: "LEVEL", kind: "number", optional: false, choices: null, least: -0.5, most: 10.25 },
    ]);
  });

  it("has the words of a choice without the spaces between, and takes a parameter out again", async () => {
    at("/work/scripts/new");
    await userEvent.type(await screen.findByRole("textbox", { name: "Name" }), "tide");
    const add = screen.getByRole("button", { name: "Add a parameter" });
    await userEvent.click(add);
    await userEvent.click(add);
    const first = within(screen.getByRole("group", { name: "Parameter 1" }));
    await userEvent.type(first.getByRole("textbox", { name: "Name" }), "HOW");
    const named = within(screen.getByRole("group", { name: "Parameter HOW" }));
    await choose(named.getByRole("combobox", { name: "Kind" }), "One of some words");
    await userEvent.type(named.getByRole("textbox", { name: "Its words" }), "quiet, loud");
    await userEvent.click(named.getByRole("checkbox", { name: "May stay without a value" }));
    await userEvent.click(screen.getByRole("button", { name: "Leave out the parameter 2" }));
    service.answers["POST scripts"] = [400, { detail: "A choice needs two words." }];
    await userEvent.click(screen.getByRole("button", { name: "Keep the script" }));
    expect(await screen.findByText("A choice needs two words.")).toBeVisible();
    expect(kept().parameters).toEqual([
      { name: "HOW", kind: "choice", optional: true, choices: ["quiet", "loud"], least: null, most: null },
    ]);
  });

  it("begins with what a job ran, its variables as parameters", async () => {
    service.answers["GET jobs/j"] = [
      200,
      { job: { command: { line: "df -h", user: "www-data", timeoutSeconds: 90, environment: { WHO: "Wanda" } } } },
    ];
    at("/work/scripts/new?job=j");
    // The name of the script has the focus; a parameter has one, too.
    await screen.findByRole("group", { name: "Parameter WHO" });
    await userEvent.keyboard("room");
    service.answers["POST scripts"] = [201, detail()];
    await userEvent.click(screen.getByRole("button", { name: "Keep the script" }));
    expect(await screen.findByRole("heading", { name: "clear old exports" })).toBeVisible();
    expect(kept()).toMatchObject({
      name: "room",
      command: { script: "#!/bin/sh\ndf -h\n", user: "www-data", timeoutSeconds: 90 },
      parameters: [{ name: "WHO", default: "Wanda" }],
    });
  });

  it("keeps what is being written, whatever comes of the script meanwhile", async () => {
    const { queries } = at("/work/scripts/a/edit");
    const text = await screen.findByRole("textbox", { name: "Script" });
    await userEvent.type(text, "echo mine");
    service.answers["GET scripts/a"] = [200, detail({ latest: 3, version: 6 }, { number: 3 })];
    await act(() => queries.refetchQueries({ queryKey: ["scripts", "a"] }));
    expect(screen.getByRole("textbox", { name: "Script" })).toHaveValue("#!/bin/sh\nfind . \u202Eecho mine");
    service.answers["GET scripts/a"] = [503, { detail: "The database does not answer." }];
    await act(() => queries.refetchQueries({ queryKey: ["scripts", "a"] }));
    expect(screen.getByRole("textbox", { name: "Script" })).toHaveValue("#!/bin/sh\nfind . \u202Eecho mine");
    service.answers["POST scripts/a/versions"] = [412, { detail: "Tomasz Vail kept version 3 meanwhile." }];
    await userEvent.click(screen.getByRole("button", { name: "Keep version 3" }));
    expect(await screen.findByText("Tomasz Vail kept version 3 meanwhile.")).toBeVisible();
    expect(asked("POST", "scripts/a/versions")[0]?.headers.get("If-Match")).toBe('"5"');
  });

  it("adds a version to what was read, and loses nothing when somebody was faster", async () => {
    at("/work/scripts/a/edit");
    const text = await screen.findByRole("textbox", { name: "Script" });
    await userEvent.type(text, "echo done");
    await userEvent.type(screen.getByRole("textbox", { name: "What is new" }), "says when");
    service.answers["POST scripts/a/versions"] = [412, { detail: "Tomasz Vail kept version 3 meanwhile." }];
    await userEvent.click(screen.getByRole("button", { name: "Keep version 3" }));
    expect(await screen.findByText("Tomasz Vail kept version 3 meanwhile.")).toBeVisible();
    expect(text).toHaveValue("#!/bin/sh\nfind . \u202Eecho done");
    const [version] = asked("POST", "scripts/a/versions");
    expect(version?.headers.get("If-Match")).toBe('"5"');
    expect(version?.body).toMatchObject({ note: "says when", parameters: [days] });
  });
});
