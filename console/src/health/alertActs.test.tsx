import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { AlertLine } from "../api/types";
import { type Answering, answering, show } from "../test-pages";
import { AlertActs } from "./AlertActs";

let service: Answering;

const alert = (id: string) => ({
  id,
  hostId: "h",
  label: "creamery-files",
  groupPath: "Tarn Valley Creamery/Office",
  check: "storage-high",
  checkName: "Storage nearly full",
});
const line = (news: object = {}) => ({ state: "open", alerts: [alert("a")], ...news }) as unknown as AlertLine;
const decided = () => service.asked.filter((a) => a.path === "alerts/acts").map((a) => a.body);
const may = (...what: string[]) =>
  (service.answers["GET groups"] = [
    200,
    { items: [{ id: "g", path: "Tarn Valley Creamery/Office", name: "Office", may: ["see", ...what] }] },
  ]);

beforeEach(() => {
  service = answering();
  may("configure");
  service.answers["POST alerts/acts"] = [200, { items: [], total: 0 }];
});
afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

describe("what is decided about an alert", () => {
  const about = "Storage nearly full on creamery-files";
  const more = async (item: string) => {
    await userEvent.click(await screen.findByRole("button", { name: `More about ${about}` }));
    await userEvent.click(await screen.findByRole("menuitem", { name: item }));
  };

  it("is that somebody is at it, or that it is open again", async () => {
    const { unmount } = show(<AlertActs line={line()} />);
    await userEvent.click(await screen.findByRole("button", { name: `I am at it: ${about}` }));
    await waitFor(() => expect(decided()).toEqual([{ ids: ["a"], act: "acknowledge", until: null, note: null }]));
    unmount();
    show(<AlertActs line={line({ state: "acknowledged" })} />);
    await userEvent.click(await screen.findByRole("button", { name: `Open again: ${about}` }));
    await waitFor(() => expect(decided()[1]).toMatchObject({ act: "reopen" }));
  });

  it.each([
    ["for an hour", "2026-11-28T10:30:00.000Z"],
    ["for four hours", "2026-11-28T13:30:00.000Z"],
    ["for a week", "2026-12-05T09:30:00.000Z"],
    ["until tomorrow at eight", new Date(2026, 10, 29, 8).toISOString()],
  ])("is to leave it quiet %s", async (words, until) => {
    vi.useFakeTimers({ now: new Date("2026-11-28T09:30:00Z"), toFake: ["Date"] });
    show(<AlertActs line={line()} />);
    await more(words);
    await waitFor(() => expect(decided()).toEqual([{ ids: ["a"], act: "snooze", until, note: null }]));
  });

  it("is that it is none, with why, about all that stand behind one line", async () => {
    service.answers["POST alerts/acts"] = [400, { detail: "Say why it is none." }];
    const place = "Saltmarsh Ferry/Vessels";
    show(<AlertActs line={line({ place, alerts: [alert("a"), alert("b")] })} />);
    await userEvent.click(await screen.findByRole("button", { name: `More about ${place}` }));
    await userEvent.click(await screen.findByRole("menuitem", { name: "Dismiss …" }));
    const dialog = await screen.findByRole("dialog", { name: `Dismiss: ${place}` });
    await userEvent.click(within(dialog).getByRole("button", { name: "Dismiss all 2" }));
    expect(await within(dialog).findByText("Say why it is none.")).toBeVisible();
    service.answers["POST alerts/acts"] = [200, { items: [], total: 0 }];
    await userEvent.type(within(dialog).getByLabelText("Why it is none"), "the ship lies in dock");
    await userEvent.click(within(dialog).getByRole("button", { name: "Dismiss all 2" }));
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
    expect(decided()[1]).toEqual({ ids: ["a", "b"], act: "dismiss", until: null, note: "the ship lies in dock" });
  });

  it("is nothing once it has cleared, and locked where one may not configure", async () => {
    const { container, unmount } = show(<AlertActs line={line({ state: "cleared" })} />);
    expect(container.querySelector("button")).toBeNull();
    unmount();
    may();
    show(<AlertActs line={line()} />);
    await waitFor(() => expect(service.asked.map((a) => a.path)).toContain("groups"));
    expect(screen.queryByRole("button", { name: /I am at it/ })).toBeNull();
  });
});
