import { waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { hmac, ProofProblem, pbkdf2, sha256, toBase64 } from "../access/scram";
import type { ChannelTicket, SessionInfo } from "../api/types";
import { type Box, KeyHost } from "../test-key-host";
import { ChannelEnd, type Service, standIn } from "../test-service";
import { changeKey, HostDoor } from "./hostDoor";
import { channelBinding, KeyChannel } from "./keyChannel";

const SECRET = "harbour lamp seven gulls";
const CHANNEL = "01a20755-f119-7cdf-96db-925628507f7c";
const utf8 = new TextEncoder();

let host: KeyHost;
let session: SessionInfo;
let service: Service;

beforeEach(async () => {
  service = standIn();
  host = await KeyHost.make(SECRET);
  session = {
    id: "01a20755-f119-7cdf-96db-925628507f7a",
    hostId: "01a20755-f119-7cdf-96db-925628507f7b",
    hostKey: host.publicKey,
    serviceKey: toBase64(new Uint8Array(32).fill(7)),
  } as SessionInfo;
});

afterEach(() => {
  vi.unstubAllGlobals();
});

const open = () => KeyChannel.open(session, { channelId: CHANNEL, path: "/channels/c", ticket: "t" } as ChannelTicket);
const binding = () => channelBinding(session, CHANNEL);

/** What is said next behind the ticket. */
function words() {
  let at = 0;
  return async <T>(name: string): Promise<T> => {
    const mine = at++;
    await waitFor(() => {
      expect(ChannelEnd.last.words.length).toBeGreaterThan(mine);
    });
    return (ChannelEnd.last.words[mine] as Record<string, T>)[name] as T;
  };
}

describe("a key channel", () => {
  it("proves the key, leaves both sides one key of the session, and says the key to nobody", async () => {
    const channel = await open();
    const next = words();
    const proves = channel.prove("access-key", SECRET);
    await host.answer(ChannelEnd.last, () => next("scram"), await binding());
    expect(await proves).toEqual(host.sessionKey);
    expect(host.heard[0]).toMatch(/^p=umbrek-channel,,n=access-key,r=[A-Za-z0-9]{24}$/);
    expect(host.heard.join("")).not.toContain(SECRET);
  });

  it.each([
    ["another host", () => ({ ...session, hostId: "01a20755-f119-7cdf-96db-925628507fff" })],
    ["another session", () => ({ ...session, id: "01a20755-f119-7cdf-96db-925628507fff" })],
    ["another service", () => ({ ...session, serviceKey: toBase64(new Uint8Array(32)) })],
  ])("proves nothing to %s", async (_, other) => {
    const channel = await open();
    const next = words();
    const proves = channel.prove("access-key", SECRET);
    void host.answer(ChannelEnd.last, () => next("scram"), await channelBinding(other(), CHANNEL));
    await expect(proves).rejects.toThrow("The access key is wrong.");
  });

  it("tells a wrong key", async () => {
    const channel = await open();
    const next = words();
    const proves = channel.prove("passcode", "harbour lamp eight gulls");
    void host.answer(ChannelEnd.last, () => next("scram"), await binding());
    await expect(proves).rejects.toThrow(new ProofProblem("The access key is wrong."));
    expect(host.sessionKey).toBeUndefined();
  });

  it("finds out who answers for the host without knowing its key", async () => {
    const channel = await open();
    const next = words();
    const proves = channel.prove("access-key", SECRET);
    void host.answer(ChannelEnd.last, () => next("scram"), await binding(), false);
    await expect(proves).rejects.toThrow("it is not the host");
  });

  it.each([
    [
      "what the host says is wrong",
      (end: ChannelEnd) => end.word({ problem: "Locked for 5 minutes." }),
      "Locked for 5",
    ],
    ["why it was closed", (end: ChannelEnd) => end.breaks("The session has ended."), "The session has ended."],
    ["that it broke", (end: ChannelEnd) => end.breaks(), "The channel to the host broke. Try again."],
  ])("tells %s", async (_, happens, says) => {
    const channel = await open();
    const proves = channel.prove("access-key", SECRET);
    happens(ChannelEnd.last);
    await expect(proves).rejects.toThrow(says);
  });

  it("hears what came before it was closed", async () => {
    const channel = await open();
    ChannelEnd.last.word({ asksProof: true });
    ChannelEnd.last.breaks();
    expect(await channel.asksProof()).toBe(true);
    await expect(channel.asksProof()).rejects.toThrow("broke");
  });

  it("is not opened where the service says no, or does not say whose keys they are", async () => {
    ChannelEnd.opens = false;
    await expect(open()).rejects.toThrow("does not open a channel");
    session = { ...session, hostKey: null };
    ChannelEnd.opens = true;
    await expect(open()).rejects.toThrow("does not say whose keys");
  });
});

describe("another key", () => {
  const verifies = async (wish: { verifier: { salt: string; storedKey: string; iterations: number } }, key: string) => {
    const salt = Uint8Array.from(atob(wish.verifier.salt), (c) => c.charCodeAt(0));
    const salted = await pbkdf2(utf8.encode(key), salt, wish.verifier.iterations);
    return toBase64(await sha256(await hmac(salted, utf8.encode("Client Key")))) === wish.verifier.storedKey;
  };

  it("is readable by the host alone, which keeps what verifies it and not the key", async () => {
    const channel = await open();
    const next = words();
    const sets = channel.setKey("lantern on the slip", true, undefined);
    const box = await next<Box>("newKey");
    ChannelEnd.last.word({ done: true });
    await sets;
    const wish = (await host.open(box, await binding())) as Parameters<typeof verifies>[0] & { endSessions: boolean };
    expect(wish.endSessions).toBe(true);
    expect(await verifies(wish, "lantern on the slip")).toBe(true);
    expect(await verifies(wish, SECRET)).toBe(false);
    expect(JSON.stringify(wish)).not.toContain("lantern");
    const stranger = await KeyHost.make(SECRET);
    await expect(stranger.open(box, await binding())).rejects.toThrow();
  });

  it("is said to be unsure where the host does not say that it has it", async () => {
    const channel = await open();
    const sets = channel.setKey("lantern on the slip", false, undefined);
    ChannelEnd.last.word({});
    await expect(sets).rejects.toThrow("Look whether the old one is still good");
  });

  it("takes a proof of the old one, and the session ends behind it", async () => {
    stubSession();
    const next = words();
    const changes = changeKey(session.hostId, SECRET, "lantern on the slip", false);
    await waitFor(() => {
      expect(ChannelEnd.all).toHaveLength(1);
    });
    ChannelEnd.last.word({ asksProof: true });
    await host.answer(ChannelEnd.last, () => next("scram"), await binding());
    const box = await next<Box>("newKey");
    ChannelEnd.last.word({ done: true });
    await changes;
    // Without what the proof has left it can't be opened: nobody in between can have put another in its place.
    expect(await host.open(box, await binding())).toMatchObject({ endSessions: false });
    host.sessionKey = undefined;
    await expect(host.open(box, await binding())).rejects.toThrow();
    expect(service.calls.at(-1)?.path).toBe(`POST /sessions/${session.id}/end`);
  });
});

/** The service opens this session, with a channel of a name that is known here. */
function stubSession() {
  service.answer = (path) =>
    path.endsWith("/sessions")
      ? session
      : path.endsWith("/channels")
        ? { channelId: CHANNEL, path: "/channels/c", ticket: "t" }
        : undefined;
}

describe("a door", () => {
  it("seals orders one after the other, so that the host believes each once", async () => {
    stubSession();
    const next = words();
    const opens = HostDoor.open(session.hostId, "access-key", SECRET);
    await waitFor(() => {
      expect(ChannelEnd.all).toHaveLength(1);
    });
    await host.answer(ChannelEnd.last, () => next("scram"), await binding());
    const door = await opens;
    expect(ChannelEnd.last.readyState).toBe(3);
    const orders = [await door.seal({ line: "df -h" }), await door.seal({ control: true }, "control")];
    expect(orders.map((o) => [o.number, o.act, o.text])).toEqual([
      [1, "run", '{"line":"df -h"}'],
      [2, "control", '{"control":true}'],
    ]);
    for (const order of orders) {
      const text = `umbrek order 1\n${session.id}\n${String(order.number)}\n${order.act}\n${order.text}`;
      expect(order.mac).toBe(toBase64(await hmac(host.sessionKey ?? new Uint8Array(), utf8.encode(text))));
    }
  });

  it("that does not open leaves no session behind", async () => {
    stubSession();
    const opens = HostDoor.open(session.hostId, "access-key", SECRET);
    await waitFor(() => {
      expect(ChannelEnd.all).toHaveLength(1);
    });
    ChannelEnd.last.word({ problem: "The host has no access key." });
    await expect(opens).rejects.toThrow("The host has no access key.");
    expect(service.calls.at(-1)?.path).toBe(`POST /sessions/${session.id}/end`);
  });
});
