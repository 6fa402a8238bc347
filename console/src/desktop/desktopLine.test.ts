import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { HostSummary } from "../api/types";
import { DesktopLine, IDLE } from "./desktopLine";
import { ChannelEnd, Drawer, type Service, standIn } from "../test-service";
import * as say from "./rfbSay";

const host = { id: "h1", label: "quay-ticket-01", groupPath: "Saltmarsh Ferry/Quay" } as HostSummary;
const opened = { opened: { screen: ":0", person: "jo", control: true } };
let service: Service;

async function start({ control = true, screen }: { control?: boolean; screen?: string } = {}) {
  const canvas = { transferControlToOffscreen: () => ({}) } as unknown as HTMLCanvasElement;
  const line = new DesktopLine(host, control, screen, { door: undefined, usesVault: false }, canvas);
  await vi.advanceTimersByTimeAsync(1);
  return line;
}

beforeEach(() => {
  vi.useFakeTimers();
  service = standIn();
  vi.stubGlobal("Worker", Drawer);
});

afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

describe("a desktop's line", () => {
  it("opens a session and a channel for what is wanted, and tells of the first screen", async () => {
    const line = await start({ screen: ":1" });
    expect(service.calls.map((c) => c.path)).toEqual(["POST /hosts/h1/sessions", "POST /sessions/s1/channels"]);
    expect(service.calls[1]?.body).toMatchObject({ kind: "desktop", desktop: { control: true, screen: ":1" } });
    expect(ChannelEnd.last.said[0]).toBe('{"ticket":"a-ticket"}');
    expect(line.seen()).toMatchObject({ state: "opening", recorded: { id: "r" } });
    ChannelEnd.last.word({ notice: "A person at the host is asked first." });
    expect(line.seen().word).toBe("A person at the host is asked first.");
    ChannelEnd.last.word(opened);
    expect(line.seen()).toMatchObject({ state: "connected", word: undefined, screen: ":0", person: "jo" });
    expect(Drawer.last.told.map((t) => t.kind)).toEqual(["canvas", "begin"]);
  });

  it("gives what it hears to whoever draws, and what that says to the host", async () => {
    const line = await start();
    ChannelEnd.last.word(opened);
    ChannelEnd.last.bytes(1, 2);
    expect(Drawer.last.told.at(-1)?.kind).toBe("bytes");
    const bytes = new Uint8Array([9, 9]).buffer;
    Drawer.last.says({ kind: "say", bytes });
    expect(ChannelEnd.last.said.at(-1)).toBe(bytes);
    Drawer.last.says({ kind: "size", width: 1280, height: 800 });
    Drawer.last.says({ kind: "pace", delay: 12, frames: 20, bytes: 5000 });
    expect(line.seen()).toMatchObject({ width: 1280, height: 800, delay: 12, frames: 20, bytes: 5000 });
    const picture = line.picture();
    const png = new Blob();
    Drawer.last.says({ kind: "picture", id: 1, png });
    expect(await picture).toBe(png);
    Drawer.last.says({ kind: "problem", problem: "a rectangle lies beside it" });
    expect(line.seen()).toMatchObject({
      state: "ended",
      word: "What the host sends is no picture: a rectangle lies beside it.",
    });
  });

  it("opens what broke again by itself, and gives up after half a minute", async () => {
    const line = await start();
    ChannelEnd.last.word(opened);
    ChannelEnd.last.breaks("The service is going");
    expect(line.seen()).toMatchObject({
      state: "broken",
      word: "The line is broken (The service is going). It is opened again by itself.",
    });
    await vi.advanceTimersByTimeAsync(1_100);
    expect(ChannelEnd.all.length).toBe(2);
    ChannelEnd.last.word(opened);
    expect(line.seen().state).toBe("connected");
    ChannelEnd.last.breaks();
    service.refuse = { status: 409, detail: "quay-ticket-01: it is not linked." };
    await vi.advanceTimersByTimeAsync(29_000);
    expect(line.seen().state).toBe("broken");
    await vi.advanceTimersByTimeAsync(3_000);
    expect(line.seen()).toMatchObject({ state: "ended", word: "quay-ticket-01: it is not linked." });
    const tried = service.calls.length;
    await vi.advanceTimersByTimeAsync(60_000);
    expect(service.calls.length).toBe(tried);
  });

  it("opens nothing again where it was refused or ended", async () => {
    service.refuse = { status: 403, detail: "You may not control quay-ticket-01." };
    const line = await start();
    expect(line.seen()).toMatchObject({ state: "ended", word: "You may not control quay-ticket-01." });
    service.refuse = undefined;
    const second = await start();
    ChannelEnd.last.word({ refusal: "jo, who is logged in there, has refused it." });
    ChannelEnd.last.breaks("");
    expect(second.seen()).toMatchObject({ state: "ended", word: "jo, who is logged in there, has refused it." });
    const third = await start();
    ChannelEnd.last.word(opened);
    ChannelEnd.last.breaks("The session has ended.");
    expect(third.seen()).toMatchObject({ state: "ended", word: "The session has ended." });
    const ends = ChannelEnd.all.length;
    await vi.advanceTimersByTimeAsync(60_000);
    expect(ChannelEnd.all.length).toBe(ends);
  });

  it("waits for the next screen when one goes", async () => {
    const line = await start();
    ChannelEnd.last.word(opened);
    ChannelEnd.last.word({ gone: "The screen has gone." });
    expect(line.seen()).toMatchObject({
      state: "waiting",
      word: "The screen has gone. The next screen that comes is shown.",
    });
    ChannelEnd.last.word({ opened: { screen: ":1", isGiven: true } });
    expect(line.seen()).toMatchObject({ state: "connected", screen: ":1", person: undefined, isGiven: true });
  });

  it("says who logs in at the screen that is shown, and out of it", async () => {
    const line = await start();
    ChannelEnd.last.word({ opened: { screen: ":0" } });
    expect(line.seen().person).toBeUndefined();
    ChannelEnd.last.word({ person: { name: "elin.marlow" } });
    expect(line.seen()).toMatchObject({
      state: "connected",
      person: "elin.marlow",
      word: "elin.marlow has logged in there.",
    });
    ChannelEnd.last.word({ person: {} });
    expect(line.seen()).toMatchObject({ person: undefined, word: "Nobody is logged in there any more." });
  });

  it("tells in time that the session ends by itself, and goes on when it is used", async () => {
    const line = await start();
    ChannelEnd.last.word(opened);
    await vi.advanceTimersByTimeAsync(IDLE - 6 * 60_000);
    expect(line.seen().endsAt).toBeUndefined();
    await vi.advanceTimersByTimeAsync(70_000);
    expect(line.seen().endsAt).toBeCloseTo(Date.now() + 5 * 60_000 - 10_000, -4);
    line.stay();
    expect(line.seen().endsAt).toBeUndefined();
    expect(ChannelEnd.last.words).toEqual([{}]);
    await vi.advanceTimersByTimeAsync(IDLE - 30_000);
    ChannelEnd.last.breaks("The session has ended.");
    expect(line.seen().word).toBe("The session has ended: nobody has done anything for 30 minutes.");
  });

  it("asks for what is to be held of the desk, and forgets it with the next screen", async () => {
    const line = await start();
    ChannelEnd.last.word(opened);
    line.hold({ hide: true });
    line.hands("ask");
    expect(ChannelEnd.last.words).toEqual([{ hide: true }, { hands: "ask" }]);
    const hold = { isTaken: true, count: 2, isHidden: true, locks: false };
    ChannelEnd.last.word({ hold });
    ChannelEnd.last.word({ others: [{ technician: "Tomasz Vail", control: true, acts: false }] });
    ChannelEnd.last.word({ typed: "till" });
    expect(line.seen()).toMatchObject({ hold, word: "The secret “till” was typed." });
    ChannelEnd.last.word(opened);
    expect(line.seen().hold).toBeUndefined();
    ChannelEnd.last.breaks();
    await vi.advanceTimersByTimeAsync(1_100);
    expect(line.seen().others).toEqual([]);
  });

  it("keeps clipboards in step only while that is wanted", async () => {
    const written = vi.fn(() => Promise.resolve());
    vi.stubGlobal("navigator", { clipboard: { writeText: written } });
    const line = await start();
    ChannelEnd.last.word(opened);
    Drawer.last.says({ kind: "clipboard-there" });
    expect(line.seen().clipboardThere).toBe(true);
    Drawer.last.says({ kind: "clipboard", text: "Plover 7:45" });
    expect(line.seen()).toMatchObject({ clipboardThere: false, clipboard: "Plover 7:45" });
    expect(written).not.toHaveBeenCalled();
    line.keepInStep(true);
    Drawer.last.says({ kind: "clipboard", text: "Plover 8:15" });
    expect(written).toHaveBeenCalledWith("Plover 8:15");
    // What came from here is not copied here again.
    line.give("Curlew 9:00");
    Drawer.last.says({ kind: "clipboard", text: "Curlew 9:00" });
    expect(written).toHaveBeenCalledTimes(1);
  });

  it("moves no mouse for who only watches, and leaves nothing behind", async () => {
    const line = await start({ control: false });
    ChannelEnd.last.word(opened);
    const said = ChannelEnd.last.said.length;
    line.mouse(5, 7, 1);
    expect(ChannelEnd.last.said.length).toBe(said);
    const control = await start();
    ChannelEnd.last.word(opened);
    control.mouse(5, 7, 1);
    expect(new Uint8Array(ChannelEnd.last.said.at(-1) as ArrayBuffer)).toEqual(say.mouse(5, 7, 1));
    const end = ChannelEnd.last;
    control.leave();
    await vi.advanceTimersByTimeAsync(10);
    expect(end.readyState).toBe(3);
    expect(Drawer.last.isOver).toBe(true);
    expect(service.calls.at(-1)?.path).toMatch(/^POST \/sessions\/s\d\/end$/);
    end.breaks("late");
    expect(control.seen().state).toBe("connected");
  });
});
