import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { HostSummary, RecordingInfo, SessionInfo } from "../api/types";
import { saveBlob } from "../parts/file";
import { type Answering, answering, show } from "../test-pages";
import { HostPanel } from "./HostPanel";
import { Player } from "./player";
import { PlayerControls, playerKeys } from "./PlayerControls";
import { RecordingSaid } from "./RecordingSaid";
import { RecordingsPage } from "./RecordingsPage";
import { SessionsPage } from "./SessionsPage";

vi.mock("../parts/file", () => ({ saveBlob: vi.fn() }));

let service: Answering;

beforeEach(() => {
  service = answering();
});
afterEach(() => {
  vi.unstubAllGlobals();
});

const QUAY = "Saltmarsh Ferry/Quay";
const groups = (may: string[]) =>
  [200, { items: [{ id: "g", path: QUAY, name: "Quay", hosts: 1, may }] }] as [number, unknown];
const asked = (method: string, path: string) => service.asked.filter((a) => a.method === method && a.path === path);

describe("the sessions", () => {
  const session = {
    id: "s1",
    hostId: "h",
    hostLabel: "quay-ticket-03",
    groupPath: QUAY,
    technicianId: "t",
    technician: "Tomasz Vail",
    address: "198.51.100.7",
    reason: "The printer",
    openedAt: "2026-11-28T09:00:00Z",
    endedAt: null,
    note: null,
  } as unknown as SessionInfo;
  const open = (sessions: SessionInfo[], may: string[], at = "/sessions") => {
    service.answers = {
      "GET sessions": [200, { items: sessions }],
      "GET me": [200, { id: "ines", name: "Ines Okafor" }],
      "GET groups": groups(may),
      "PUT sessions/s1/note": [409, { detail: "The session is gone." }],
      "POST sessions/s1/end": [200, session],
      "GET sessions/s1/acts": [
        200,
        {
          items: [
            { at: "2026-11-28T09:00:01Z", by: "Tomasz Vail", action: "desktop.give-screen", detail: "{}" },
            { at: "2026-11-28T09:01:00Z", by: "jo at quay-ticket-03", action: "desktop.end-there", detail: "{}" },
          ],
        },
      ],
    };
    show(<SessionsPage />, at);
  };

  it("of a place that one administers can be ended, and what was done in them is told with who did it", async () => {
    open([session], ["see", "administer"]);
    await userEvent.click(await screen.findByRole("button", { name: "What Tomasz Vail did on quay-ticket-03" }));
    const acts = await screen.findAllByRole("listitem");
    expect(acts.map((a) => a.textContent.replace(/^\d\d:\d\d:\d\d /, ""))).toEqual([
      "the host is given a screen",
      "somebody there ends it, by jo at quay-ticket-03",
    ]);
    await userEvent.click(screen.getByRole("button", { name: "End the session of Tomasz Vail on quay-ticket-03" }));
    await waitFor(() => {
      expect(asked("POST", "sessions/s1/end")).toHaveLength(1);
    });
  });

  it("of others elsewhere are seen, and nothing else", async () => {
    open([session], ["see"]);
    expect(await screen.findByText("Tomasz Vail")).toBeVisible();
    expect(screen.getByText("· goes on", { exact: false })).toBeVisible();
    expect(screen.queryAllByRole("button")).toEqual([]);
  });

  it("that have ended say why, and have no end left to them", async () => {
    const ended = {
      ...session,
      technicianId: "ines",
      endedAt: "2026-11-28T10:00:00Z",
      endReason: "nobody used it",
      note: "Berth 3 is next.",
    };
    open([ended], ["see"]);
    expect(await screen.findByText("· nobody used it", { exact: false })).toBeVisible();
    expect(screen.getByText("Berth 3 is next.")).toBeVisible();
    expect(screen.queryByRole("button", { name: /^End the session/ })).toBeNull();
    expect(screen.getByRole("button", { name: /^Note about/ })).toHaveTextContent("Change the note");
  });

  it("keep what is written about one when that can't be kept", async () => {
    open([{ ...session, technicianId: "ines" }], ["see"]);
    await userEvent.click(await screen.findByRole("button", { name: /^Note about the session/ }));
    const note = screen.getByRole("textbox", { name: /^What is to be known/ });
    await userEvent.type(note, "  The till sticks. ");
    await userEvent.click(screen.getByRole("button", { name: "Keep the note" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("The session is gone.");
    expect(note).toHaveValue("  The till sticks. ");
    expect(asked("PUT", "sessions/s1/note")[0]?.body).toEqual({ note: "The till sticks." });
    await userEvent.click(screen.getByRole("button", { name: "Leave it as it was" }));
    expect(screen.queryByRole("textbox", { name: /^What is to be known/ })).toBeNull();
  });

  it("outside of the scope are left out, and it is said what a session is", async () => {
    open([session], ["see"], "/sessions?scope=Brindle%20Moor%20Observatory");
    expect(await screen.findByText("No session yet")).toBeVisible();
    await userEvent.click(screen.getByRole("radio", { name: "Open now" }));
    expect(await screen.findByText("Nobody is connected to a host")).toBeVisible();
    expect(screen.getByText(/to its desktop, with a shell, to its files/)).toBeVisible();
  });
});

const recording = {
  id: "r1",
  hostId: "h",
  hostLabel: "quay-ticket-03",
  groupPath: QUAY,
  technician: "Tomasz Vail",
  kind: "desktop",
  commandText: "watched :0",
  user: "jo",
  beganAt: "2026-11-28T09:00:00Z",
  endedAt: "2026-11-28T09:02:05Z",
  bytes: 2048,
  sha256: "ab12",
  hasKeys: false,
  continues: false,
} as unknown as RecordingInfo;

describe("the recordings", () => {
  it("are listed with what they are of, page by page", async () => {
    const shell = {
      ...recording,
      id: "r2",
      kind: "shell",
      commandText: "htop",
      user: "root",
      endedAt: null,
      bytes: null,
      hasKeys: true,
      continues: true,
    };
    service.answers = { "GET recordings": [200, { items: [recording, shell], next: "c" }], "GET groups": groups([]) };
    show(<RecordingsPage />);
    expect(await screen.findAllByRole("link", { name: "Watch what Tomasz Vail did on quay-ticket-03" })).toHaveLength(
      2,
    );
    const pages = asked("GET", "recordings").length;
    expect(screen.getAllByRole("link", { name: /^Watch what/ }).map((l) => l.getAttribute("href"))).toEqual([
      "/sessions/recordings/r1",
      "/sessions/recordings/r2",
    ]);
    expect(screen.getByText(/· goes on · with keys/)).toBeVisible();
    expect(screen.getByText(/gone on with/)).toHaveTextContent("htop, gone on with, as root");
    service.answers["GET recordings"] = [200, { items: [{ ...recording, id: "r3" }] }];
    await userEvent.click(screen.getByRole("button", { name: "Earlier ones" }));
    await waitFor(() => {
      expect(screen.getAllByRole("link", { name: /^Watch what/ })).toHaveLength(3);
    });
    expect(asked("GET", "recordings").length).toBeGreaterThan(pages);
    expect(screen.queryByRole("button", { name: "Earlier ones" })).toBeNull();
  });

  const said = (info: RecordingInfo, may: string[]) => {
    service.answers = {
      ...service.answers,
      "GET groups": groups(may),
      "GET recordings/r1/film": [200, { state: "none", done: 0 }],
      "DELETE recordings/r1": [204, undefined],
    };
    show(
      <Routes>
        <Route path="/" element={<RecordingSaid info={info} content={new Blob(["tape"])} />} />
        <Route path="/sessions/recordings" element="the list" />
      </Routes>,
    );
  };

  it("are removed by who administers the place, and not without being asked", async () => {
    said(recording, ["administer"]);
    await userEvent.click(await screen.findByRole("button", { name: "Remove …" }));
    expect(screen.getByRole("alert")).toHaveTextContent(
      "What Tomasz Vail did on quay-ticket-03 of Saltmarsh Ferry then is gone for good",
    );
    await userEvent.click(screen.getByRole("button", { name: "Keep it" }));
    expect(screen.queryByRole("alert")).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Remove …" }));
    await userEvent.click(screen.getByRole("button", { name: "Remove the recording" }));
    expect(await screen.findByText("the list")).toBeVisible();
    expect(asked("DELETE", "recordings/r1")).toHaveLength(1);
  });

  it("are saved under a name that tells what they are", async () => {
    said(recording, ["see"]);
    await userEvent.click(await screen.findByRole("button", { name: "Save" }));
    expect(vi.mocked(saveBlob)).toHaveBeenCalledWith("quay-ticket-03-r1.screen", expect.any(Blob));
    expect(screen.getByText("ab12")).toBeVisible();
    expect(screen.getByText(/that something was typed; not what/)).toBeVisible();
  });

  it("that are still written can be neither removed nor made a film of, and say so", async () => {
    said({ ...recording, endedAt: null, sha256: null }, ["administer"]);
    expect(await screen.findByRole("button", { name: "Remove …" })).toHaveAttribute(
      "title",
      "It is still being written",
    );
    expect(screen.getByRole("button", { name: "Make a film" })).toBeDisabled();
    expect(screen.getByText(/this is what there is so far/)).toBeVisible();
  });

  it("become a film, which says how far it has come, can be given up, and is handed over", async () => {
    said(recording, ["administer"]);
    service.answers["POST recordings/r1/film"] = [200, { state: "making", done: 0 }];
    const make = await screen.findByRole("button", { name: "Make a film" });
    service.answers["GET recordings/r1/film"] = [200, { state: "making", done: 0.425 }];
    await userEvent.click(make);
    expect(await screen.findByRole("status")).toHaveTextContent("The film is made: 43 %");
    expect(asked("POST", "recordings/r1/film")[0]?.body).toEqual({ longestPause: 3 });
    service.answers["DELETE recordings/r1/film"] = [204, undefined];
    service.answers["GET recordings/r1/film"] = [
      200,
      { state: "failed", done: 0, problem: "There is no ffmpeg here." },
    ];
    await userEvent.click(screen.getByRole("button", { name: "Give it up" }));
    expect(await screen.findByText("There is no ffmpeg here.")).toBeVisible();
    expect(asked("DELETE", "recordings/r1/film")).toHaveLength(1);
  });
});

describe("the controls of a recording", () => {
  const events = [{ at: 1 }, { at: 61 }, { at: 62 }];
  const start = () => {
    const player = new Player(
      events,
      { reset: vi.fn(), show: vi.fn() },
      (e) => (e.at === 61 ? "a mark" : undefined),
      3,
    );
    show(
      <div role="application" onKeyDown={playerKeys(player)} tabIndex={0}>
        <PlayerControls player={player} />
      </div>,
    );
    return player;
  };

  it("tell where one is, and shorten pauses or not", async () => {
    const player = start();
    expect(screen.getByRole("timer")).toHaveTextContent("0:00 of 0:05");
    await userEvent.click(screen.getByRole("combobox", { name: "Longest pause" }));
    await userEvent.click(screen.getByRole("option", { name: "pauses as they were", hidden: true }));
    expect(screen.getByRole("timer")).toHaveTextContent("0:00 of 1:02");
    expect(player.marks).toEqual([{ at: 61, text: "a mark" }]);
    await userEvent.click(screen.getByRole("radio", { name: "16×" }));
    expect(player.pace).toBe(16);
    player.dispose();
  });

  it("are keys too, except where a button has its own", async () => {
    const player = start();
    const page = screen.getByRole("application");
    fireEvent.keyDown(page, { key: "ArrowRight" });
    expect(player.at).toBe(5);
    await waitFor(() => {
      expect(screen.getByRole("button")).toHaveTextContent("Again");
    });
    fireEvent.keyDown(page, { key: "ArrowLeft" });
    expect(player.at).toBe(0);
    fireEvent.keyDown(page, { key: " " });
    expect(player.playing).toBe(true);
    fireEvent.keyDown(page, { key: " " });
    expect(player.playing).toBe(false);
    fireEvent.keyDown(within(page).getByRole("button"), { key: " " });
    expect(player.playing).toBe(false);
    player.dispose();
  });
});

describe("a panel over a line to a host", () => {
  const host = { id: "h", label: "quay-ticket-03", groupPath: QUAY, presence: { state: "linked" } } as HostSummary;
  const open = (may: string[], keyFor: string[] = [], state = "linked") => {
    service.answers = {
      "GET groups": groups(may),
      "GET hosts/h/policy": [
        200,
        { side: { inForce: { keyFor, allowed: [] }, hasAccessKey: true }, wanted: { keyFor } },
      ],
      "GET hosts/h/access": [200, { answers: [{ permission: "run", sentence: "You may not run anything there." }] }],
      "GET secrets": [200, { items: [] }],
    };
    show(
      <HostPanel
        host={{ ...host, presence: { ...host.presence, state } as HostSummary["presence"] }}
        title="Processes"
        id="p"
        permission="run"
        ask="Look what runs"
      >
        {() => <p>what runs</p>}
      </HostPanel>,
    );
  };

  it("is opened when somebody asks, and closed again", async () => {
    open(["run"]);
    await userEvent.click(await screen.findByRole("button", { name: "Look what runs" }));
    expect(await screen.findByText("what runs")).toBeVisible();
    await userEvent.click(screen.getByRole("button", { name: "Look no more" }));
    expect(screen.queryByText("what runs")).toBeNull();
  });

  it("takes a host that is linked", async () => {
    open(["run"], [], "away");
    expect(await screen.findByRole("button", { name: "Look what runs" })).toBeDisabled();
    expect(screen.getByText("quay-ticket-03 is away; this takes a host that is linked.")).toBeVisible();
  });

  it("says why it is not for somebody", async () => {
    open(["see"]);
    expect(await screen.findByText(/You may not run anything there./)).toBeVisible();
    expect(screen.queryByRole("button", { name: "Look what runs" })).toBeNull();
  });

  it("asks for the host's key first, where the host does", async () => {
    open(["run"], ["run"]);
    await userEvent.click(await screen.findByRole("button", { name: "Look what runs" }));
    expect(await screen.findByText(/asks for its access key before it runs a command/)).toBeVisible();
    expect(screen.queryByText("what runs")).toBeNull();
  });
});
