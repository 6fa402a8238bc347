import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { HostShellDoor } from "./hostShell";

class Socket {
  static readonly OPEN = 1;
  static last: Socket;
  readyState = Socket.OPEN;
  binaryType = "";
  onopen: (() => void) | undefined;
  onerror: (() => void) | undefined;
  onmessage: ((e: { data: string }) => void) | undefined;
  onclose: ((e: { reason: string }) => void) | undefined;
  readonly said: unknown[] = [];

  constructor() {
    Socket.last = this;
    queueMicrotask(() => (Socket.opens ? this.onopen?.() : this.onerror?.()));
  }

  static opens = true;

  send(data: unknown) {
    this.said.push(data);
  }

  close() {
    this.readyState = 3;
  }
}

const size = { columns: 80, rows: 24 };
let asked: { path: string; body: { shell?: { beginAs?: string; shellId?: string } } }[] = [];
let session: object = {};
let number = 0;

beforeEach(() => {
  asked = [];
  number = 0;
  Socket.opens = true;
  vi.stubGlobal("WebSocket", Socket);
  vi.stubGlobal("fetch", async (request: Request) => {
    const path = `${request.method} ${new URL(request.url).pathname.replace("/api/v1", "")}`;
    asked.push({ path, body: (request.body ? await request.json() : {}) as never });
    return Response.json(
      path.endsWith("/channels")
        ? { path: "/channels/c", ticket: "t", recording: null }
        : path.startsWith("GET")
          ? session
          : { id: `s${String(++number)}` },
    );
  });
});
afterEach(() => vi.unstubAllGlobals());

describe("the way to a host's shell", () => {
  it("begins one shell, however often it is asked for, in one session", async () => {
    const door = new HostShellDoor({ id: "h1", label: "quay-ticket-01" }, { usesVault: false });
    await door.channel({ shellId: undefined, seen: 0, size });
    await door.channel({ shellId: undefined, seen: 0, size });
    await door.channel({ shellId: "a-shell", seen: 7, size });
    expect(asked.map((a) => a.path)).toEqual([
      "POST /hosts/h1/sessions",
      "POST /sessions/s1/channels",
      "POST /sessions/s1/channels",
      "POST /sessions/s1/channels",
    ]);
    const wishes = asked.slice(1).map((a) => a.body.shell);
    expect(wishes[0]?.beginAs).toBeTruthy();
    expect(wishes[1]?.beginAs).toBe(wishes[0]?.beginAs);
    expect(wishes[2]).toMatchObject({ shellId: "a-shell", seen: 7 });
    expect(wishes[2]?.beginAs).toBeUndefined();
    expect(Socket.last.said).toEqual(['{"ticket":"t"}']);
  });

  it.each([
    [{ endedAt: "2026-11-27T08:00:00Z", endReason: "the service restarted" }, undefined, "s2"],
    [{ endedAt: "2026-11-27T08:00:00Z", endReason: "nothing happened for 30 min" }, undefined, "s2"],
    // Its end is not written yet.
    [{ endedAt: null, endReason: null }, undefined, "s1"],
    [
      { endedAt: "2026-11-27T08:00:00Z", endReason: "ended by Odile Marsh" },
      "The session has ended: ended by Odile Marsh.",
      "s2",
    ],
  ])("takes another session where nobody has ended the last: %j", async (was, said, next) => {
    session = was;
    const door = new HostShellDoor({ id: "h1", label: "quay-ticket-01" }, { usesVault: false });
    await door.channel({ shellId: undefined, seen: 0, size });
    expect(await door.renew()).toBe(said);
    await door.channel({ shellId: "a-shell", seen: 0, size });
    expect(asked.at(-1)?.path).toBe(`POST /sessions/${next}/channels`);
  });

  it("asks nothing where there was no session, and ends the one there is", async () => {
    const door = new HostShellDoor({ id: "h1", label: "quay-ticket-01" }, { usesVault: false });
    expect(await door.renew()).toBeUndefined();
    await door.close();
    expect(asked).toEqual([]);
    await door.channel({ shellId: undefined, seen: 0, size });
    await door.close();
    expect(asked.at(-1)?.path).toBe("POST /sessions/s1/end");
  });

  it("says so when the service opens no channel", async () => {
    Socket.opens = false;
    const door = new HostShellDoor({ id: "h1", label: "quay-ticket-01" }, { usesVault: false });
    await expect(door.channel({ shellId: undefined, seen: 0, size })).rejects.toThrow("does not open a channel");
  });

  it("passes on what is said, and drops what comes too late", async () => {
    const door = new HostShellDoor({ id: "h1", label: "quay-ticket-01" }, { usesVault: false });
    const line = await door.channel({ shellId: undefined, seen: 0, size });
    const heard: unknown[] = [];
    line.onmessage = (data) => heard.push(data);
    line.onclose = (reason) => heard.push(reason);
    Socket.last.onmessage?.({ data: "a word" });
    Socket.last.onclose?.({ reason: "The session has ended." });
    expect(heard).toEqual(["a word", "The session has ended."]);
    line.send("one");
    line.close();
    line.send("late");
    expect(Socket.last.said).toEqual(['{"ticket":"t"}', "one"]);
  });
});
