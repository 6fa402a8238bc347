import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { ChannelEnd, type Service, standIn } from "../test-service";
import { HostShellDoor } from "./hostShell";

const size = { columns: 80, rows: 24 };
let service: Service;

beforeEach(() => {
  service = standIn();
});
afterEach(() => vi.unstubAllGlobals());

describe("the way to a host's shell", () => {
  it("begins one shell, however often it is service.calls for, in one session", async () => {
    const door = new HostShellDoor({ id: "h1", label: "quay-ticket-01" }, { usesVault: false });
    await door.channel({ shellId: undefined, seen: 0, size });
    await door.channel({ shellId: undefined, seen: 0, size });
    await door.channel({ shellId: "a-shell", seen: 7, size });
    expect(service.calls.map((a) => a.path)).toEqual([
      "POST /hosts/h1/sessions",
      "POST /sessions/s1/channels",
      "POST /sessions/s1/channels",
      "POST /sessions/s1/channels",
    ]);
    const wishes = service.calls
      .slice(1)
      .map((a) => a.body.shell as { beginAs?: string; shellId?: string; seen: number });
    expect(wishes[0]?.beginAs).toBeTruthy();
    expect(wishes[1]?.beginAs).toBe(wishes[0]?.beginAs);
    expect(wishes[2]).toMatchObject({ shellId: "a-shell", seen: 7 });
    expect(wishes[2]?.beginAs).toBeUndefined();
    expect(ChannelEnd.last.said).toEqual(['{"ticket":"a-ticket"}']);
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
    service.session = was;
    const door = new HostShellDoor({ id: "h1", label: "quay-ticket-01" }, { usesVault: false });
    await door.channel({ shellId: undefined, seen: 0, size });
    expect(await door.renew()).toBe(said);
    await door.channel({ shellId: "a-shell", seen: 0, size });
    expect(service.calls.at(-1)?.path).toBe(`POST /sessions/${next}/channels`);
  });

  it("asks nothing where there was no session, and ends the one there is", async () => {
    const door = new HostShellDoor({ id: "h1", label: "quay-ticket-01" }, { usesVault: false });
    expect(await door.renew()).toBeUndefined();
    await door.close();
    expect(service.calls).toEqual([]);
    await door.channel({ shellId: undefined, seen: 0, size });
    await door.close();
    expect(service.calls.at(-1)?.path).toBe("POST /sessions/s1/end");
  });

  it("says so when the service opens no channel", async () => {
    ChannelEnd.opens = false;
    const door = new HostShellDoor({ id: "h1", label: "quay-ticket-01" }, { usesVault: false });
    await expect(door.channel({ shellId: undefined, seen: 0, size })).rejects.toThrow("does not open a channel");
  });

  it("passes on what is said, and drops what comes too late", async () => {
    const door = new HostShellDoor({ id: "h1", label: "quay-ticket-01" }, { usesVault: false });
    const line = await door.channel({ shellId: undefined, seen: 0, size });
    const heard: unknown[] = [];
    line.onmessage = (data) => heard.push(data);
    line.onclose = (reason) => heard.push(reason);
    ChannelEnd.last.onmessage?.({ data: "a word" });
    ChannelEnd.last.onclose?.({ reason: "The session has ended." });
    expect(heard).toEqual(["a word", "The session has ended."]);
    line.send("one");
    line.close();
    line.send("late");
    expect(ChannelEnd.last.said).toEqual(['{"ticket":"a-ticket"}', "one"]);
  });
});
