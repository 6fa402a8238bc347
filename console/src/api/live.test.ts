import { beforeEach, describe, expect, it, vi } from "vitest";
import { follow, whenLineIsLost } from "./live";

/** A line to the service as its library gives it, of which the test is the other end. */
class Hub {
  static all: Hub[] = [];
  static refuses = false;
  streams: {
    name: string;
    next: (m: unknown) => void;
    error: (e: Error) => void;
    complete: () => void;
    read: boolean;
  }[] = [];
  stopped = false;
  private closed: ((e?: Error) => void)[] = [];

  constructor() {
    Hub.all.push(this);
  }

  start = () => (Hub.refuses ? Promise.reject(new Error("no way through")) : Promise.resolve());
  stop = () => {
    this.stopped = true;
    return Promise.resolve();
  };
  onclose = (told: (e?: Error) => void) => this.closed.push(told);
  stream = (name: string) => ({
    subscribe: (ends: Pick<Hub["streams"][0], "next" | "error" | "complete">) => {
      const stream = { name, read: true, ...ends };
      this.streams.push(stream);
      return { dispose: () => (stream.read = false) };
    },
  });

  /** The line breaks: what is read over it ends first, as the library has it. */
  breaks() {
    for (const s of this.streams.filter((one) => one.read)) s.error(new Error("the line broke"));
    for (const told of this.closed) told(new Error("the line broke"));
  }

  /** The line ends as it was asked to. */
  closes() {
    for (const told of this.closed) told();
  }
}

vi.mock("@microsoft/signalr", () => ({
  HttpTransportType: { WebSockets: 1 },
  LogLevel: { None: 6 },
  HubConnectionBuilder: class {
    withUrl = () => this;
    configureLogging = () => this;
    build = () => new Hub();
  },
}));

const settle = () => vi.advanceTimersByTimeAsync(0);

function following(name: string) {
  const heard: unknown[] = [];
  const states: string[] = [];
  const stop = follow<unknown>(
    name,
    [],
    (m) => heard.push(m),
    (state, why) => states.push(why ? `${state}: ${why}` : state),
  );
  return { heard, states, stop };
}

beforeEach(() => {
  vi.useFakeTimers();
  Hub.all = [];
  Hub.refuses = false;
  return () => vi.useRealTimers();
});

describe("what is followed live", () => {
  it("shares one line, which goes with the last that needs it", async () => {
    const [a, b] = [following("Estate"), following("Alerts")];
    await settle();
    expect(Hub.all).toHaveLength(1);
    expect(Hub.all[0]?.streams.map((s) => s.name)).toEqual(["Estate", "Alerts"]);
    Hub.all[0]?.streams[0]?.next("three hosts");
    expect([a.heard, b.heard]).toEqual([["three hosts"], []]);

    a.stop();
    expect(Hub.all[0]?.streams[0]?.read).toBe(false);
    expect(Hub.all[0]?.stopped).toBe(false);
    Hub.all[0]?.streams[0]?.next("too late");
    expect(a.heard).toEqual(["three hosts"]);
    b.stop();
    expect(Hub.all[0]?.stopped).toBe(true);
  });

  it("is taken up again over a new line where the line broke, each with its state said", async () => {
    const [a, b] = [following("Estate"), following("Alerts")];
    await settle();
    Hub.all[0]?.breaks();
    expect(a.states).toEqual(["connecting", "live", "broken: the line broke"]);
    await vi.advanceTimersByTimeAsync(1000);
    expect(Hub.all).toHaveLength(2);
    expect(Hub.all[0]?.stopped).toBe(true);
    expect(Hub.all[1]?.streams.map((s) => s.name).sort()).toEqual(["Alerts", "Estate"]);
    expect(b.states.at(-1)).toBe("live");
    a.stop();
    b.stop();
  });

  it("tells that the line was lost, and not that it was let go", async () => {
    const lost = vi.fn();
    const forget = whenLineIsLost(lost);
    const a = following("Estate");
    await settle();
    Hub.all[0]?.breaks();
    expect(lost).toHaveBeenCalledTimes(1);
    await vi.advanceTimersByTimeAsync(1000);
    a.stop();
    Hub.all[1]?.closes();
    expect(lost).toHaveBeenCalledTimes(1);
    forget();
    const b = following("Estate");
    await settle();
    Hub.all[2]?.breaks();
    expect(lost).toHaveBeenCalledTimes(1);
    b.stop();
  });

  it("tries for ever, and says why it can't", async () => {
    Hub.refuses = true;
    const a = following("Estate");
    await settle();
    expect(a.states).toEqual(["connecting", "broken: no way through"]);
    await vi.advanceTimersByTimeAsync(1000);
    Hub.refuses = false;
    await vi.advanceTimersByTimeAsync(10_000);
    expect(a.states.at(-1)).toBe("live");
    expect(Hub.all.length).toBeGreaterThan(2);
    a.stop();
  });

  it("goes on alone where only one of them was refused", async () => {
    const [a, b] = [following("Estate"), following("Job")];
    await settle();
    Hub.all[0]?.streams[1]?.error(new Error("There is no such job."));
    expect(b.states.at(-1)).toBe("broken: There is no such job.");
    expect(a.states.at(-1)).toBe("live");
    await vi.advanceTimersByTimeAsync(1000);
    expect(Hub.all).toHaveLength(1);
    expect(Hub.all[0]?.streams.map((s) => s.name)).toEqual(["Estate", "Job", "Job"]);
    a.stop();
    b.stop();
  });

  it("begins anew at once, as whoever is signed in now, where what one may do has changed", async () => {
    const [a, b] = [following("Estate"), following("Alerts")];
    await settle();
    for (const s of Hub.all[0]?.streams ?? []) s.error(new Error("What you may do here has changed."));
    await settle();
    expect(Hub.all).toHaveLength(2);
    expect(Hub.all[0]?.stopped).toBe(true);
    expect(Hub.all[1]?.streams.map((s) => s.name)).toEqual(["Estate", "Alerts"]);
    expect(a.states).toEqual(["connecting", "live", "live"]);
    a.stop();
    b.stop();
  });

  it("lets go of a line that is not up yet", async () => {
    const a = following("Estate");
    a.stop();
    expect(Hub.all[0]?.stopped).toBe(true);
    await settle();
    expect(Hub.all[0]?.streams).toHaveLength(0);
    expect(a.states).toEqual(["connecting"]);
  });
});
