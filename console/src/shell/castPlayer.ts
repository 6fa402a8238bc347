import { type Cast, type CastEvent, shownAt } from "./cast";

/** What a player shows on. */
export interface CastScreen {
  /** As it was at the beginning. */
  reset(): void;
  show(event: CastEvent): void;
}

const TICK_MS = 100;

/** Shows a recording as it went; from anywhere in it, at any pace. */
export class CastPlayer {
  #times: number[];
  #next = 0;
  #at = 0;
  #playing = false;
  #pace = 1;
  #timer: ReturnType<typeof setTimeout> | undefined;
  #since = 0;
  #listeners = new Set<() => void>();
  #version = 0;

  constructor(
    private readonly cast: Cast,
    private readonly screen: CastScreen,
    longestPause?: number,
    private readonly now: () => number = () => performance.now(),
  ) {
    this.#times = shownAt(cast, longestPause);
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
  get marks(): { at: number; text: string }[] {
    return this.cast.events.flatMap((e, i) => (e.kind === "mark" ? [{ at: this.#times[i] ?? 0, text: e.text }] : []));
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
    this.#times = shownAt(this.cast, longest);
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
    for (let event = this.cast.events[this.#next]; event && (this.#times[this.#next] ?? 0) <= at;) {
      this.screen.show(event);
      event = this.cast.events[++this.#next];
    }
  }

  #changed(): void {
    this.#version++;
    for (const listener of this.#listeners) listener();
  }
}
