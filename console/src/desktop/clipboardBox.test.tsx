import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { show } from "../test-pages";
import { ClipboardBox } from "./ClipboardBox";
import { type DesktopLine, type DesktopSeen, unseen } from "./desktopLine";

const line = { get: vi.fn(), give: vi.fn(), keepInStep: vi.fn(), keyboard: { type: vi.fn() } };
const box = (seen: Partial<DesktopSeen> = {}) => (
  <ClipboardBox
    line={line as unknown as DesktopLine}
    seen={{ ...unseen, ...seen }}
    host="quay-ticket-01"
    inPortal={false}
  />
);
const press = async (name: string) => userEvent.click(await screen.findByRole("button", { name }));

let clipboard = { readText: vi.fn(), writeText: vi.fn() };
beforeEach(() => {
  vi.clearAllMocks();
  userEvent.setup();
  clipboard = { readText: vi.fn().mockResolvedValue("Plover 7:45"), writeText: vi.fn().mockResolvedValue(undefined) };
  Object.defineProperty(navigator, "clipboard", { value: clipboard, configurable: true });
});
afterEach(() => vi.restoreAllMocks());

it("gets what is there, and puts it here", async () => {
  const { unmount } = show(box({ clipboardThere: true }));
  await press("Clipboards · new there");
  expect(await screen.findByText("Something was copied there; get it to see it.")).toBeVisible();
  const put = screen.getByRole("button", { name: "Put it on mine" });
  expect(put).toBeDisabled();
  expect(put).toHaveAttribute("title", "Get it first");
  await press("Get it from quay-ticket-01");
  expect(line.get).toHaveBeenCalledOnce();
  unmount();

  show(box({ clipboard: "Berth 4" }));
  await press("Clipboards");
  expect(await screen.findByLabelText("On quay-ticket-01")).toHaveValue("Berth 4");
  await press("Put it on mine");
  expect(clipboard.writeText).toHaveBeenCalledWith("Berth 4");
  expect(await screen.findByText("It is on your clipboard.")).toBeVisible();
});

it("sends what is here, or types it where no clipboard is taken", async () => {
  show(box());
  await press("Clipboards");
  expect(await screen.findByRole("button", { name: "Send it to quay-ticket-01" })).toBeDisabled();
  await press("Take it from my clipboard");
  await waitFor(() => expect(screen.getByLabelText("Here")).toHaveValue("Plover 7:45"));
  await press("Send it to quay-ticket-01");
  expect(line.give).toHaveBeenCalledWith("Plover 7:45");
  expect(await screen.findByText("It is on the clipboard of quay-ticket-01.")).toBeVisible();
  await press("Type it there");
  expect(line.keyboard.type).toHaveBeenCalledWith("Plover 7:45");
});

it("says what to do where the browser keeps the clipboard to itself", async () => {
  clipboard.readText.mockRejectedValue(new DOMException("no", "NotAllowedError"));
  show(box());
  await press("Clipboards");
  await press("Take it from my clipboard");
  expect(await screen.findByRole("alert")).toHaveTextContent("paste the text here instead");
});

it("keeps both in step while that is wished, each text once", async () => {
  const { unmount } = show(box());
  await press("Clipboards");
  await userEvent.click(await screen.findByLabelText(/^Keep both in step/));
  expect(line.keepInStep).toHaveBeenLastCalledWith(true);
  await waitFor(() => expect(line.give).toHaveBeenCalledWith("Plover 7:45"));
  window.dispatchEvent(new Event("focus"));
  clipboard.readText.mockResolvedValue("Berth 5");
  window.dispatchEvent(new Event("focus"));
  await waitFor(() => expect(line.give).toHaveBeenLastCalledWith("Berth 5"));
  expect(line.give).toHaveBeenCalledTimes(2);
  expect(screen.getByRole("button", { name: "Clipboards · in step" })).toBeVisible();
  unmount();
  expect(line.keepInStep).toHaveBeenLastCalledWith(false);
  window.dispatchEvent(new Event("focus"));
  expect(line.give).toHaveBeenCalledTimes(2);
});
