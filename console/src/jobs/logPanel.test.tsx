import { act, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { save } from "../parts/file";
import { choose, quayHost, show } from "../test-pages";
import { ChannelEnd, type Service, standIn } from "../test-service";
import { LogPanel } from "./LogPanel";
import type { LogLine } from "./logs";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));
vi.mock("../parts/file", async (real) => ({ ...(await real<object>()), save: vi.fn() }));

let service: Service;

beforeEach(() => {
  service = standIn();
  const answers: Record<string, object> = {
    "GET /groups": { items: [{ id: "q", path: "Saltmarsh Ferry/Quay", name: "Quay", may: ["see", "read-files"] }] },
  };
  service.answer = (path) => answers[path];
});
afterEach(() => {
  vi.unstubAllGlobals();
  vi.clearAllMocks();
});

const line = (text: string, more: Partial<LogLine> = {}): LogLine => ({
  at: new Date().toISOString(),
  severity: "information",
  source: "till",
  pid: 7,
  text,
  ...more,
});
const says = (word: object) => act(() => ChannelEnd.last.word(word));
const wished = () => service.calls.filter((c) => c.path.endsWith("/channels")).map((c) => c.body.log as object);
const opened = (channels: number) => waitFor(() => expect(ChannelEnd.all).toHaveLength(channels));
const log = () => screen.getByRole("log");

async function open() {
  show(<LogPanel host={quayHost("quay-ticket-01")} />);
  await userEvent.click(await screen.findByRole("button", { name: "Look into the logs of quay-ticket-01" }));
  await opened(1);
}

describe("the logs of a host", () => {
  it("are read from the end on, and new lines come by themselves", async () => {
    await open();
    expect(wished()).toEqual([{ lines: 1000, follow: true }]);
    expect(screen.getByText("Reading the journal …")).toBeVisible();
    says({ lines: [line("the drawer is open"), line("paper is low", { severity: "warning", source: null })] });
    says({ caughtUp: true });
    expect(log()).toHaveTextContent(/till\[7\]: the drawer is open.*warning.*paper is low/);
    expect(screen.getByText("2 lines; new ones come by themselves.")).toBeVisible();
    says({ lines: [line("out of paper", { severity: "error" })] });
    expect(screen.getByText("error")).toHaveClass("trouble");
    expect(screen.getByText(/^3 lines/)).toBeVisible();
  });

  it("keep what would move a cursor visible", async () => {
    await open();
    says({ lines: [line("\u001b[2Jgone\nsecond", { source: null })] });
    expect(log().textContent).not.toContain("\u001b");
    expect(log()).toHaveTextContent(/gone⏎second/);
  });

  it("are asked for anew when something else is wanted, and what was shown goes", async () => {
    await open();
    says({ sources: { journal: true, files: [{ path: "/var/log/syslog", bytes: 2048 }] }, lines: [line("old")] });
    await choose(screen.getByRole("combobox", { name: "At least as grave as" }), "error and worse");
    await opened(2);
    expect(log()).not.toHaveTextContent("old");
    expect(screen.getByText(/Lines of which the severity is not known are left out/)).toBeVisible();
    await userEvent.type(screen.getByRole("textbox", { name: "Lines that hold" }), " paper ");
    await userEvent.click(screen.getByRole("combobox", { name: "Which log" }));
    await userEvent.click(await screen.findByRole("option", { name: /syslog/, hidden: true }));
    await opened(3);
    expect(wished().at(-1)).toEqual({
      lines: 1000,
      file: "/var/log/syslog",
      text: "paper",
      least: "error",
      follow: true,
    });
    expect(screen.getByRole("log", { name: "/var/log/syslog of quay-ticket-01" })).toBeVisible();
  });

  it("are shown again by the same wish, once the line is over", async () => {
    await open();
    says({ problem: "There is no such file." });
    act(() => ChannelEnd.last.breaks());
    expect(await screen.findByText("There is no such file.")).toBeVisible();
    expect(screen.queryByRole("log")).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Show" }));
    await opened(2);
    says({ lines: [line("back")], caughtUp: true });
    expect(log()).toHaveTextContent("back");
    expect(screen.queryByText("There is no such file.")).toBeNull();
  });

  it("are saved as they are shown, and not before there is a line", async () => {
    await open();
    const csv = screen.getByRole("button", { name: "Save as CSV" });
    expect(csv).toBeDisabled();
    expect(csv).toHaveAttribute("title", "There is no line to save");
    const at = "2026-11-28T09:00:00Z";
    says({ lines: [line("=1+1", { at })] });
    await userEvent.click(csv);
    await userEvent.click(screen.getByRole("button", { name: "Save as JSON" }));
    const [[csvName, , csvText] = [], [jsonName, , jsonText] = []] = vi.mocked(save).mock.calls;
    expect([csvName, jsonName]).toEqual(["quay-ticket-01-log.csv", "quay-ticket-01-log.json"]);
    expect(csvText).toBe(`At,Severity,Source,Pid,Text\r\n${at},information,till,7,'=1+1\r\n`);
    expect(JSON.parse(jsonText ?? "")).toEqual([line("=1+1", { at })]);
  });

  it("are left when nobody looks any more", async () => {
    await open();
    await userEvent.click(screen.getByRole("button", { name: "Look no more" }));
    expect(ChannelEnd.last.readyState).toBe(3);
    expect(screen.getByRole("button", { name: "Look into the logs of quay-ticket-01" })).toBeEnabled();
  });
});
