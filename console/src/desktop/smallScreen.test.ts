import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { HostSummary } from "../api/types";
import { ChannelEnd, type Service, standIn } from "../test-service";
import { SMALL, SmallScreen, type SmallSeen } from "./smallScreen";

let service: Service;
let screens: SmallScreen[] = [];
const canvas = { getContext: () => ({}) } as unknown as HTMLCanvasElement;

function start(label = "quay-ticket-01") {
  const seen: SmallSeen[] = [];
  const screen = new SmallScreen({ id: label, label } as HostSummary, canvas, (s) => seen.push(s));
  screens.push(screen);
  return { screen, seen };
}

beforeEach(() => {
  vi.useFakeTimers();
  service = standIn();
  screens = [];
});
afterEach(async () => {
  for (const screen of screens) screen.leave();
  await vi.advanceTimersByTimeAsync(10);
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

describe("a small screen among many", () => {
  it("asks for a small picture to look at", async () => {
    start();
    await vi.advanceTimersByTimeAsync(1);
    expect(service.calls[1]?.body).toMatchObject({ kind: "desktop", desktop: { control: false, small: SMALL } });
  });

  it("comes six at a time, and the next one when one is there or goes", async () => {
    ChannelEnd.opens = undefined;
    const many = Array.from({ length: 9 }, (_, i) => start(`host-${String(i)}`));
    await vi.advanceTimersByTimeAsync(10);
    expect(ChannelEnd.all.length).toBe(6);
    ChannelEnd.all[2]?.onopen?.();
    await vi.advanceTimersByTimeAsync(10);
    expect(ChannelEnd.all.length).toBe(7);
    // One that is left makes room, too, and one that waits comes to nothing.
    many[7]?.screen.leave();
    many[0]?.screen.leave();
    await vi.advanceTimersByTimeAsync(10);
    expect(ChannelEnd.all.length).toBe(8);
    expect(service.calls.filter((c) => c.path.startsWith("POST /hosts/host-7")).length).toBe(0);
  });

  it("says why there is nothing to see, and tries again after a while", async () => {
    const { seen } = start();
    await vi.advanceTimersByTimeAsync(1);
    ChannelEnd.last.word({ gone: "The screen has gone." });
    expect(seen.at(-1)).toEqual({ problem: "The screen has gone.", there: false });
    ChannelEnd.last.breaks("The host has gone.");
    expect(seen.at(-1)?.problem).toBe("The host has gone.");
    await vi.advanceTimersByTimeAsync(19_000);
    expect(ChannelEnd.all.length).toBe(1);
    await vi.advanceTimersByTimeAsync(2_000);
    expect(ChannelEnd.all.length).toBe(2);
  });

  it("does not ask a host again that has said no", async () => {
    const { seen } = start();
    await vi.advanceTimersByTimeAsync(1);
    ChannelEnd.last.word({ refusal: "This host does not allow its desktop to be watched." });
    ChannelEnd.last.breaks();
    await vi.advanceTimersByTimeAsync(60_000);
    expect(ChannelEnd.all.length).toBe(1);
    expect(seen.at(-1)?.problem).toContain("does not allow");
  });

  it("takes rubbish for what it is", async () => {
    const { seen } = start();
    await vi.advanceTimersByTimeAsync(1);
    ChannelEnd.last.word({ opened: { screen: ":0" } });
    ChannelEnd.last.bytes(...Array.from("rubbish, twelve", (c) => c.charCodeAt(0)));
    expect(seen.at(-1)?.there).toBe(false);
    expect(seen.at(-1)?.problem).toBeTruthy();
    expect(ChannelEnd.last.readyState).toBe(3);
  });

  it("leaves nothing open", async () => {
    const { screen } = start();
    await vi.advanceTimersByTimeAsync(1);
    screen.leave();
    await vi.advanceTimersByTimeAsync(60_000);
    expect(ChannelEnd.last.readyState).toBe(3);
    expect(service.calls.at(-1)?.path).toBe("POST /sessions/s1/end");
    expect(ChannelEnd.all.length).toBe(1);
  });
});
