import { act, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { type Answering, answering, show } from "../test-pages";
import { TwinPage } from "./TwinPage";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

let service: Answering;

const folder = (label: string, path: string) => ({ label, hostId: label, shelfId: null, path: { text: path } });
const turn = (more: object = {}) => ({
  state: "done",
  dryRun: false,
  beganAt: "2026-11-28T08:00:00Z",
  endedAt: "2026-11-28T08:01:00Z",
  by: "Ines Okafor",
  acts: 2,
  actsDone: 2,
  bytes: 0,
  bytesDone: 0,
  bytesMoved: 0,
  same: 0,
  conflicts: 0,
  problems: 0,
  reason: null,
  ...more,
});
const twin = (more: object = {}) => ({
  id: "t",
  name: "price lists",
  first: folder("creamery-files", "/srv/prices"),
  second: folder("quay-ticket-01", "/var/prices"),
  rules: { way: "both-ways", deletes: false, leaves: ["*.tmp"] },
  rate: 1 << 20,
  turn: null,
  ...more,
});
const conflict = (path: string, more: object = {}) => ({
  deed: "conflict",
  kind: "file",
  path: { text: path },
  first: "2026-11-27T08:00:00Z",
  second: null,
  why: "gone on the second",
  ...more,
});

beforeEach(() => {
  service = answering();
  service.answers["GET me"] = [200, { name: "Ines Okafor", everywhere: [], anywhere: ["read-files", "write-files"] }];
  service.answers["GET twins/t"] = [200, twin()];
  service.answers["GET twins/t/acts"] = [200, { items: [] }];
});
afterEach(() => vi.unstubAllGlobals());

const button = (name: string) => screen.findByRole("button", { name });
const turns = () => service.asked.filter((a) => a.method === "POST" && a.path === "twins/t/turns").map((a) => a.body);
const open = () =>
  show(
    <Routes>
      <Route path="/work/twins/:id" element={<TwinPage />} />
      <Route path="/work/twins" element="all twins" />
    </Routes>,
    "/work/twins/t",
  );

it("says which folders it keeps in step, and how", async () => {
  open();
  const first = await screen.findByRole("region", { name: "First folder" });
  expect(within(first).getByRole("link", { name: "creamery-files" })).toHaveAttribute("href", "/hosts/creamery-files");
  expect(screen.getByText(/\*\.tmp are left alone\. At most 1\.0 MiB in a second\./)).toBeVisible();
  expect(screen.getByText("None yet. See first what it would do.")).toBeVisible();
});

it("stays on the page when the line breaks for a moment, and says why it never came", async () => {
  const { queries, unmount } = open();
  await button("Take a turn");
  service.answers["GET twins/t"] = [503, { detail: "The database does not answer." }];
  await act(() => queries.refetchQueries({ queryKey: ["twins", "t"] }));
  expect(screen.getByRole("heading", { name: "price lists" })).toBeVisible();
  unmount();
  open();
  expect(await screen.findByText("This twin can't be shown")).toBeVisible();
  expect(screen.getByText(/The database does not answer\./)).toBeVisible();
});

describe("a turn", () => {
  it("is tried first, with the key from the vault where that is wished", async () => {
    open();
    service.answers["POST twins/t/turns"] = [409, { detail: "creamery-files is away." }];
    await userEvent.click(await screen.findByRole("checkbox", { name: /prove it from the vault$/ }));
    await userEvent.click(await button("See what it would do"));
    expect(await screen.findByText("creamery-files is away.")).toBeVisible();
    expect(turns()).toEqual([{ dryRun: true, settling: null, thoughEmpty: false, usesVault: true }]);
  });

  it("that goes on says how far it is, and can be cancelled", async () => {
    service.answers["GET twins/t"] = [
      200,
      twin({ turn: turn({ state: "moving", endedAt: null, acts: 9, actsDone: 4, bytes: 2048, bytesDone: 1024 }) }),
    ];
    open();
    expect(await screen.findByRole("status")).toHaveTextContent("4 of 9 done");
    expect(screen.getByRole("progressbar", { name: "How much has come" })).toHaveAttribute("value", "1024");
    expect(screen.queryByRole("button", { name: "Take a turn" })).toBeNull();
    service.answers["POST twins/t/cancel"] = [200, twin()];
    service.answers["GET twins/t"] = [
      200,
      twin({ turn: turn({ state: "cancelled", reason: "Ines Okafor ended it." }) }),
    ];
    await userEvent.click(await button("Cancel the turn"));
    expect(await screen.findByText("Ines Okafor ended it.")).toBeVisible();
  });

  it("that would empty a folder is taken only when that is meant", async () => {
    service.answers["GET twins/t"] = [
      200,
      twin({ turn: turn({ state: "failed", reason: "The first folder holds nothing now; nothing was taken away." }) }),
    ];
    open();
    service.answers["POST twins/t/turns"] = [200, twin()];
    await userEvent.click(await button("It is meant to be empty: take the turn"));
    await vi.waitFor(() => expect(turns()).toEqual([expect.objectContaining({ thoughEmpty: true })]));
  });

  it("shows what it did, and where", async () => {
    service.answers["GET twins/t"] = [200, twin({ turn: turn() })];
    service.answers["GET twins/t/acts"] = [
      200,
      {
        items: [
          { deed: "file", kind: "file", path: { text: "milk.csv" }, bytes: 2048, to: "second", isDone: true },
          {
            deed: "delete",
            kind: "folder",
            path: { text: "old" },
            bytes: 0,
            to: "first",
            isDone: false,
            why: "in use",
          },
        ],
      },
    ];
    open();
    const did = await screen.findByRole("table", { name: "What the turn did" });
    expect(
      within(did)
        .getAllByRole("row")
        .slice(1)
        .map((r) => r.textContent),
    ).toEqual(["newmilk.csv2.0 KiBsecond", "not doneold/firstin use"]);
  });
});

describe("what was changed on both sides", () => {
  beforeEach(() => {
    service.answers["GET twins/t"] = [200, twin({ turn: turn({ conflicts: 2 }) })];
    service.answers["GET twins/t/acts"] = [200, { items: [conflict("a.csv"), conflict("b.csv")] }];
    service.answers["POST twins/t/turns"] = [200, twin()];
  });

  it("waits until somebody says whose goes on: of one thing, or of all", async () => {
    open();
    const conflicts = within(await screen.findByRole("region", { name: "Conflicts" }));
    expect(conflicts.getByText(/^2 things were changed on both sides/)).toBeVisible();
    expect(conflicts.getByRole("row", { name: /^b\.csv/ })).toHaveTextContent("gone on the second");
    await userEvent.click(conflicts.getByRole("button", { name: "The second’s b.csv" }));
    await userEvent.click(await conflicts.findByRole("button", { name: "Of all, the newer" }));
    await vi.waitFor(() => expect(turns()).toHaveLength(2));
    expect(turns()).toMatchObject([
      { settling: { choice: "second", paths: [{ text: "b.csv" }] } },
      { settling: { choice: "newer", paths: null } },
    ]);
  });

  it("is not settled by who may only read", async () => {
    service.answers["GET me"] = [200, { name: "Ade Brandt", everywhere: [], anywhere: ["read-files"] }];
    open();
    const conflicts = within(await screen.findByRole("region", { name: "Conflicts" }));
    expect(conflicts.queryByRole("button")).toBeNull();
    expect(screen.queryByRole("button", { name: "Take a turn" })).toBeNull();
  });
});

it("is removed after it was said that both folders stay", async () => {
  open();
  await userEvent.click(await button("Remove"));
  const dialog = await screen.findByRole("dialog", { name: "Remove price lists?" });
  expect(dialog).toHaveTextContent("Both folders stay as they are.");
  service.answers["DELETE twins/t"] = [409, { detail: "A turn goes on." }];
  await userEvent.click(within(dialog).getByRole("button", { name: "Remove the twin" }));
  expect(await within(dialog).findByText("A turn goes on.")).toBeVisible();
  service.answers["DELETE twins/t"] = [204, undefined];
  await userEvent.click(within(dialog).getByRole("button", { name: "Remove the twin" }));
  expect(await screen.findByText("all twins")).toBeVisible();
});
