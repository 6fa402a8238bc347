import { waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { ChannelEnd, type Service, standIn } from "../test-service";
import type { HostDoor } from "./hostDoor";
import { HostSocket, type SocketEvents, type SocketWish } from "./hostSocket";
import type { Proof } from "./useProof";

const wish: SocketWish = { kind: "logs", name: "log", wanted: { lines: 50 }, act: "run" };
const none: Proof = { door: undefined, usesVault: false };

let service: Service;
let events: { open: SocketEvents["open"]; message: SocketEvents["message"]; over: SocketEvents["over"] };

beforeEach(() => {
  service = standIn();
  events = { open: vi.fn(), message: vi.fn(), over: vi.fn() };
});

afterEach(() => {
  vi.unstubAllGlobals();
});

const paths = () => service.calls.map((c) => c.path);
const settled = () => waitFor(() => expect(vi.mocked(events.over)).toHaveBeenCalled());

async function start(proof = none) {
  const socket = new HostSocket("h", wish, proof, events);
  await waitFor(() => {
    expect(events.open).toHaveBeenCalled();
  });
  return socket;
}

describe("a channel of a host", () => {
  it("is opened in a session of its own, which ends with it", async () => {
    const socket = await start();
    expect(paths()).toEqual(["POST /hosts/h/sessions", "POST /sessions/s1/channels"]);
    expect(service.calls[1]?.body).toEqual({ kind: "logs", log: { lines: 50 }, seal: null, usesVault: false });
    expect(ChannelEnd.last.said).toEqual([JSON.stringify({ ticket: "a-ticket" })]);
    socket.send("more");
    ChannelEnd.last.word({ line: "ebb" });
    expect(events.message).toHaveBeenCalledWith('{"line":"ebb"}');
    socket.close();
    expect(ChannelEnd.last.readyState).toBe(3);
    await waitFor(() => {
      expect(paths().at(-1)).toBe("POST /sessions/s1/end");
    });
    // Whoever closes it knows; what comes then is nobody's.
    ChannelEnd.last.word({ line: "flow" });
    ChannelEnd.last.breaks("late");
    socket.send("lost");
    expect(events.message).toHaveBeenCalledTimes(1);
    expect(events.over).not.toHaveBeenCalled();
    expect(ChannelEnd.last.said).toHaveLength(2);
  });

  it("is opened in the session in which the key was proven, which stays", async () => {
    const seal = vi.fn().mockResolvedValue({ number: 1 });
    const door = { session: { id: "proven" }, seal } as unknown as HostDoor;
    const socket = await start({ door, usesVault: true });
    expect(paths()).toEqual(["POST /sessions/proven/channels"]);
    expect(service.calls[0]?.body).toMatchObject({ seal: { number: 1 }, usesVault: false });
    expect(seal).toHaveBeenCalledWith({ lines: 50 }, "run");
    socket.close();
    ChannelEnd.last.breaks();
    expect(paths()).toHaveLength(1);
  });

  it.each([
    ["with the reason", "The host went away.", "The host went away."],
    ["without one where there is none", "", undefined],
  ])("says once that it is over, %s", async (_, reason, why) => {
    await start();
    ChannelEnd.last.breaks(reason);
    ChannelEnd.last.breaks("again");
    expect(vi.mocked(events.over).mock.calls).toEqual([[why]]);
    await waitFor(() => {
      expect(paths().at(-1)).toBe("POST /sessions/s1/end");
    });
  });

  it("says why it is not opened: what the service says", async () => {
    service.refuse = { status: 403, detail: "You may not run anything on quay-ticket-03." };
    new HostSocket("h", wish, none, events);
    await settled();
    expect(events.over).toHaveBeenCalledWith("You may not run anything on quay-ticket-03.");
    expect(ChannelEnd.all).toHaveLength(0);
  });

  it("says why it is not opened: no line to it", async () => {
    ChannelEnd.opens = false;
    new HostSocket("h", wish, none, events);
    await settled();
    expect(events.over).toHaveBeenCalledWith("The service does not open a channel to the host.");
    await waitFor(() => {
      expect(paths().at(-1)).toBe("POST /sessions/s1/end");
    });
  });

  it("that is closed while it is opened ends as soon as it is", async () => {
    ChannelEnd.opens = undefined;
    const socket = new HostSocket("h", wish, none, events);
    await waitFor(() => {
      expect(ChannelEnd.all).toHaveLength(1);
    });
    socket.close();
    expect(ChannelEnd.last.readyState).toBe(1);
    ChannelEnd.last.onopen?.();
    await waitFor(() => {
      expect(paths().at(-1)).toBe("POST /sessions/s1/end");
    });
    expect(ChannelEnd.last.readyState).toBe(3);
    expect(events.open).not.toHaveBeenCalled();
    expect(events.over).not.toHaveBeenCalled();
  });

  it("that is closed before there is a session asks for no channel", async () => {
    const socket = new HostSocket("h", wish, none, events);
    socket.close();
    await waitFor(() => {
      expect(paths()).toEqual(["POST /hosts/h/sessions", "POST /sessions/s1/end"]);
    });
    expect(ChannelEnd.all).toHaveLength(0);
  });
});
