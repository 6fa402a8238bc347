/** What happens at a time of a recording. */
export interface Timed {
  /** Seconds since its beginning. */
  at: number;
}

/** What a player shows on. */
export interface PlayerScreen<E extends Timed> {
  /** As it was at the beginning. */
  reset(): void;
  /** What happens next, in its order. */
  show(events: readonly E[]): void;
}

export interface Mark {
  /** Seconds, as it is shown. */
  at: number;
  text: string;
}

const TICK_MS = 100;

/** When each event is shown, at the pace at which it went: pauses that are longer than the longest are shortened to it. */
export function shownAt(events: readonly Timed[], longestPause: number | undefined): number[] {
  let [before, at] = [0, 0];
  return events.map((e) => {
    at += longestPause === undefined ? e.at - before : Math.min(e.at - before, longestPause);
    before = e.at;
    return at;
  });
}

/** Shows a recording as it went; from anywhere in it, at any pace. */
export class Player<E extends Timed> {
  #times: number[];
  #marks: Mark[];
  #next = 0;
  #at = 0;
  #playing = false;
  #pace = 1;
  #timer: ReturnType<typeof setTimeout> | undefined;
  #since = 0;
  #listeners = new Set<() => void>();
  #version = 0;

  /** @param markOf What is to be said of an event beside showing it. */
  constructor(
    private readonly events: readonly E[],
    private readonly screen: PlayerScreen<E>,
    private readonly markOf: (event: E) => string | undefined,
    longestPause?: number,
    private readonly now: () => number = () => performance.now(),
  ) {
    this.#times = shownAt(events, longestPause);
    this.#marks = this.#findMarks();
    screen.reset();
  }

  readonly subscribe = (listener: () => void) => {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  };

  readonly version = () => this.#version;

  /** Seconds from the beginning, as it is shown. */
  get at(): number {
    return this.#at;
  }

  /** Seconds from the beginning, as it went. */
  get realAt(): number {
    return this.#next === 0 ? 0 : (this.events[this.#next - 1]?.at ?? 0);
  }

  /** Seconds that all of it takes, as it is shown. */
  get length(): number {
    return this.#times.at(-1) ?? 0;
  }

  get playing(): boolean {
    return this.#playing;
  }

  get pace(): number {
    return this.#pace;
  }

  /** Places that are marked. */
  get marks(): readonly Mark[] {
    return this.#marks;
  }

  play(): void {
    if (this.#playing) return;
    if (this.#at >= this.length) this.#turnTo(0);
    this.#playing = true;
    this.#since = this.now();
    this.#tick();
  }

  stop(): void {
    this.#playing = false;
    clearTimeout(this.#timer);
    this.#changed();
  }

  seek(at: number): void {
    this.#turnTo(Math.min(Math.max(0, at), this.length));
    this.#since = this.now();
    this.#changed();
  }

  setPace(pace: number): void {
    this.#pace = pace;
    this.#changed();
  }

  /** Shortens pauses otherwise; what stands on the screen stays. */
  setLongestPause(longest: number | undefined): void {
    this.#times = shownAt(this.events, longest);
    this.#marks = this.#findMarks();
    this.#at = this.#next === 0 ? 0 : (this.#times[this.#next - 1] ?? 0);
    this.#since = this.now();
    this.#changed();
  }

  dispose(): void {
    this.#playing = false;
    clearTimeout(this.#timer);
    this.#listeners.clear();
  }

  #tick(): void {
    if (!this.#playing) return;
    const now = this.now();
    this.#turnTo(Math.min(this.length, this.#at + ((now - this.#since) / 1000) * this.#pace));
    this.#since = now;
    if (this.#at >= this.length) {
      this.stop();
      return;
    }
    const due = (((this.#times[this.#next] ?? this.#at) - this.#at) / this.#pace) * 1000;
    this.#timer = setTimeout(() => this.#tick(), Math.min(TICK_MS, Math.max(1, due)));
    this.#changed();
  }

  #turnTo(at: number): void {
    if (at < this.#at) {
      this.#next = 0;
      this.screen.reset();
    }
    this.#at = at;
    const from = this.#next;
    while (this.#next < this.events.length && (this.#times[this.#next] ?? 0) <= at) this.#next++;
    if (this.#next > from) this.screen.show(this.events.slice(from, this.#next));
  }

  #findMarks(): Mark[] {
    return this.events.flatMap((e, i) => {
      const text = this.markOf(e);
      return text === undefined ? [] : [{ at: this.#times[i] ?? 0, text }];
    });
  }

  #changed(): void {
    this.#version++;
    for (const listener of this.#listeners) listener();
  }
}
