import { describe, expect, it, vi } from "vitest";
import { ServiceProblem } from "../api/client";
import { ShellLine, type ShellSocket } from "./shellLine";
import { WINDOW, type ShellWord } from "./words";

/** A channel's other end: what was sent to it, and a way to answer. */
class HostEnd implements ShellSocket {
  onmessage: ShellSocket["onmessage"];
  onclose: ShellSocket["onclose"];
  readonly words: ShellWord[] = [];
  readonly typed: number[] = [];
  closed = false;

  send(data: string | Uint8Array<ArrayBuffer>) {
    if (typeof data === "string") this.words.push(JSON.parse(data) as ShellWord);
    else {
      expect(data[0]).toBe(0);
      this.typed.push(...data.slice(1));
    }
  }

  close() {
    this.closed = true;
  }

  say(word: ShellWord) {
    this.onmessage?.(JSON.stringify(word));
  }

  print(text: string) {
    this.onmessage?.(new Uint8Array([1, ...new TextEncoder().encode(text)]).buffer);
  }

  open(offset = 0, taken = 0, missed = 0) {
    this.say({ opened: { shellId: "a-shell", pid: 7, user: "root", offset, missed, taken } });
  }
}

function start() {
  const ends: HostEnd[] = [];
  const asked: { shellId: string | undefined; seen: number }[] = [];
  const door = {
    refuse: undefined as Error | undefined,
    channel: (wish: { shellId: string | undefined; seen: number }) => {
      asked.push({ shellId: wish.shellId, seen: wish.seen });
      if (door.refuse) return Promise.reject(door.refuse);
      const end = new HostEnd();
      ends.push(end);
      return Promise.resolve(end);
    },
    ended: undefined as string | undefined,
    renew: vi.fn(() => Promise.resolve(door.ended)),
  };
  const shown: string[] = [];
  const done: (() => void)[] = [];
  const states: string[] = [];
  const notices: string[] = [];
  const line = new ShellLine(
    door,
    {
      output: (data, whenShown) => {
        shown.push(new TextDecoder().decode(data));
        done.push(whenShown);
      },
      state: (state, word) => states.push(word ? `${state}: ${word}` : state),
      notice: (sentence) => notices.push(sentence),
      opened: () => undefined,
    },
    { columns: 80, rows: 24 },
  );
  line.start();
  const last = async () => {
    await vi.waitFor(() => expect(ends.at(-1)?.onmessage).toBeDefined());
    return ends.at(-1) as HostEnd;
  };
  return { line, door, ends, asked, shown, done, states, notices, last };
}

const text = (bytes: number[]) => new TextDecoder().decode(new Uint8Array(bytes));

describe("a shell's line", () => {
  it("shows what comes, and tells the host only what was really shown", async () => {
    const t = start();
    const host = await t.last();
    host.open();
    host.print("x".repeat(40_000));
    expect(host.words.filter((w) => w.seen)).toEqual([]);
    t.done.forEach((shown) => shown());
    expect(host.words.filter((w) => w.seen)).toEqual([{ seen: 40_000 }]);
  });

  it("does not run ahead of the host by more than the window", async () => {
    const t = start();
    const host = await t.last();
    host.open();
    t.line.type(new Uint8Array(WINDOW + 100_000));
    expect(host.typed.length).toBeLessThanOrEqual(WINDOW);
    host.say({ taken: host.typed.length });
    expect(host.typed.length).toBe(WINDOW + 100_000);
  });

  it("comes back to the same shell, where it was, and says again what was not taken", async () => {
    vi.useFakeTimers();
    try {
      const t = start();
      const first = await t.last();
      first.open();
      first.print("hello");
      t.line.type("abc");
      t.line.type("def");
      first.say({ taken: 4 });
      first.onclose?.("");
      expect(t.line.state).toBe("broken");
      expect(t.line.type("lost")).toBe(false);
      await vi.runAllTimersAsync();
      const second = await t.last();
      expect(t.asked.at(-1)).toEqual({ shellId: "a-shell", seen: 5 });
      second.open(5, 5);
      expect(text(second.typed)).toBe("f");
      expect(t.line.state).toBe("open");
      second.print(" again");
      expect(t.shown.join("")).toBe("hello again");
    } finally {
      vi.useRealTimers();
    }
  });

  it("takes another session when its own is over, and says what the host did not keep", async () => {
    vi.useFakeTimers();
    try {
      const t = start();
      (await t.last()).open();
      t.door.refuse = new ServiceProblem(
        { type: "urn:umbrek:problem:conflict", title: null, status: 409, detail: "The session has ended." },
        409,
      );
      t.ends[0]?.onclose?.("");
      await vi.advanceTimersByTimeAsync(1_000);
      expect(t.door.renew).toHaveBeenCalled();
      t.door.refuse = undefined;
      await vi.advanceTimersByTimeAsync(20_000);
      const next = t.ends[1];
      next?.open(900, 0, 700);
      expect(t.notices[0]).toContain("700 bytes");
    } finally {
      vi.useRealTimers();
    }
  });

  it("begins nothing again when somebody has ended its session", async () => {
    vi.useFakeTimers();
    try {
      const t = start();
      // The host was told to begin it, and nobody has heard yet that it has.
      await t.last();
      t.door.refuse = new ServiceProblem(
        { type: "urn:umbrek:problem:conflict", title: null, status: 409, detail: "The session has ended." },
        409,
      );
      t.door.ended = "The session has ended: ended by Odile Marsh.";
      t.ends[0]?.onclose?.("The session has ended.");
      await vi.advanceTimersByTimeAsync(30_000);
      expect(t.states.at(-1)).toBe("ended: The session has ended: ended by Odile Marsh.");
      expect(t.asked.length).toBe(2);
    } finally {
      vi.useRealTimers();
    }
  });

  it("tries on while the service does not answer, and stops when it says no", async () => {
    vi.useFakeTimers();
    try {
      const t = start();
      (await t.last()).open();
      t.door.refuse = new ServiceProblem({ type: null, title: null, status: null, detail: "It does not answer." }, 0);
      t.ends[0]?.onclose?.("");
      await vi.advanceTimersByTimeAsync(30_000);
      expect(t.line.state).toBe("broken");
      expect(t.asked.length).toBeGreaterThan(3);
      t.door.refuse = new ServiceProblem({ type: null, title: null, status: 403, detail: "You may not." }, 403);
      await vi.advanceTimersByTimeAsync(30_000);
      expect(t.states.at(-1)).toBe("ended: You may not.");
    } finally {
      vi.useRealTimers();
    }
  });

  it("ends with what the host says, and is heard", async () => {
    const t = start();
    const host = await t.last();
    host.open();
    host.say({ ended: { outcome: "exited", exitStatus: 3 } });
    expect(host.words.at(-1)).toEqual({ end: true });
    expect(host.closed).toBe(true);
    expect(t.states.at(-1)).toBe("ended: Its exit status was 3.");
  });

  it("asks once more when its first channel closes before there is a shell, and then says so", async () => {
    vi.useFakeTimers();
    try {
      const t = start();
      (await t.last()).onclose?.("The other end went away.");
      expect(t.line.state).toBe("broken");
      await vi.advanceTimersByTimeAsync(5_000);
      expect(t.ends).toHaveLength(2);
      (await t.last()).onclose?.("The other end went away.");
      expect(t.states.at(-1)).toBe("ended: The other end went away.");
    } finally {
      vi.useRealTimers();
    }
  });

  it("says why there is none", async () => {
    const t = start();
    const host = await t.last();
    host.say({ problem: "This host does not allow shells." });
    host.onclose?.("");
    expect(t.states.at(-1)).toBe("ended: This host does not allow shells.");
  });

  it("goes on elsewhere when its technician connects from another place", async () => {
    const t = start();
    const host = await t.last();
    host.open();
    host.say({ displaced: true });
    host.onclose?.("");
    expect(t.line.state).toBe("left");
  });
});
