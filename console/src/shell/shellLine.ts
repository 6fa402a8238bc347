import { ServiceProblem } from "../api/client";
import { MAX_DATA, WINDOW, type RunEnd, type ShellWord, type TerminalSize } from "./words";

/** How a shell is reached; the line asks for a way whenever it needs a new one. */
export interface ShellDoor {
  /** Opens a channel, for a new shell or for the one that goes on. */
  channel(wish: { shellId: string | undefined; seen: number; size: TerminalSize }): Promise<ShellSocket>;
  /** The session is over: the next channel takes another. What somebody has ended is not begun again: says so. */
  renew(): Promise<string | undefined>;
}

/** A WebSocket, as far as the line needs one. */
export interface ShellSocket {
  send(data: string | Uint8Array<ArrayBuffer>): void;
  close(): void;
  onmessage: ((data: string | ArrayBuffer) => void) | undefined;
  onclose: ((reason: string) => void) | undefined;
}

export type ShellState = "connecting" | "open" | "broken" | "ended" | "left";

export interface ShellEvents {
  /** Output to be shown; call `done` when it is. */
  output(data: Uint8Array, done: () => void): void;
  state(state: ShellState, word: string | undefined): void;
  /** A sentence for the person. */
  notice(sentence: string): void;
  opened(shellId: string, user: string): void;
}

/** Channels that may close before there is a shell; the host begins it once all the same. */
const MOST_UNOPENED = 1;
const ACKNOWLEDGE_EVERY = 32 * 1024;
const utf8 = new TextEncoder();

/** How long to wait before the next attempt, in milliseconds. */
const pause = (attempt: number) => Math.min(4_000, 300 * 2 ** attempt) * (0.7 + Math.random() * 0.6);

/**
 * A technician's side of one shell. A broken line is taken up again where it was: the host is told what was seen, and what it
 * had not taken is sent again.
 */
export class ShellLine {
  #socket: ShellSocket | undefined;
  #shellId: string | undefined;
  #received = 0;
  #acknowledged = 0;
  #taken = 0;
  #underWay: Uint8Array<ArrayBuffer>[] = [];
  #waiting: Uint8Array<ArrayBuffer>[] = [];
  #state: ShellState = "connecting";
  #attempt = 0;
  #timer: ReturnType<typeof setTimeout> | undefined;
  #problem: string | undefined;
  #unopened = 0;

  constructor(
    private readonly door: ShellDoor,
    private readonly events: ShellEvents,
    private size: TerminalSize,
    shellId?: string,
  ) {
    this.#shellId = shellId;
  }

  get state(): ShellState {
    return this.#state;
  }

  get shellId(): string | undefined {
    return this.#shellId;
  }

  start(): void {
    void this.#connect();
  }

  /** What is typed while the line is broken goes nowhere: nobody sees what it would do. */
  type(keys: string | Uint8Array<ArrayBuffer>): boolean {
    if (this.#state !== "open") return false;
    const bytes = typeof keys === "string" ? utf8.encode(keys) : keys;
    for (let at = 0; at < bytes.length; at += MAX_DATA) this.#waiting.push(bytes.slice(at, at + MAX_DATA));
    this.#flush();
    return true;
  }

  resize(size: TerminalSize): void {
    this.size = size;
    this.#say({ size });
  }

  /** Ends the shell with all that runs in it. */
  end(): void {
    if (this.#state === "open") this.#say({ end: true });
    else if (this.#state !== "ended") this.#finish("left", undefined);
  }

  /** Leaves the shell; it goes on. */
  leave(): void {
    if (this.#state === "ended") return;
    this.#finish("left", undefined);
  }

  /** Tries again now. */
  retry(): void {
    if (this.#state !== "broken") return;
    clearTimeout(this.#timer);
    void this.#connect();
  }

  #finish(state: ShellState, word: string | undefined): void {
    clearTimeout(this.#timer);
    const socket = this.#socket;
    this.#socket = undefined;
    this.#become(state, word);
    socket?.close();
  }

  #become(state: ShellState, word?: string): void {
    this.#state = state;
    this.events.state(state, word);
  }

  /** The host was told to begin it, whether or not that was heard. */
  #mayHaveBegun(): boolean {
    return this.#shellId !== undefined || this.#unopened > 0;
  }

  #over(): boolean {
    return this.#state === "ended" || this.#state === "left";
  }

  async #connect(): Promise<void> {
    try {
      const socket = await this.door.channel({ shellId: this.#shellId, seen: this.#received, size: this.size });
      if (this.#over()) {
        socket.close();
        return;
      }
      this.#socket = socket;
      this.#unopened++;
      socket.onmessage = (data) => this.#hear(data);
      socket.onclose = (reason) => {
        if (this.#socket !== socket || this.#over()) return;
        this.#socket = undefined;
        this.#broke(reason);
      };
    } catch (e) {
      if (this.#over()) return;
      // A session that is over leads nowhere; another one leads to the same shell.
      if (this.#mayHaveBegun() && e instanceof ServiceProblem && (e.word === "conflict" || e.word === "not-found")) {
        const ended = await this.door.renew().catch(() => undefined);
        if (this.#over()) return;
        if (ended) {
          this.#finish("ended", ended);
          return;
        }
      } else if (!this.#mayHaveBegun() || (e instanceof ServiceProblem && [401, 403, 422].includes(e.status))) {
        this.#finish("ended", e instanceof Error ? e.message : String(e));
        return;
      }
      this.#broke(e instanceof Error ? e.message : String(e));
    }
  }

  #broke(why: string): void {
    if (this.#problem ?? (!this.#shellId && (this.#unopened === 0 || this.#unopened > MOST_UNOPENED))) {
      this.#finish("ended", this.#problem ?? (why || "The channel to the host broke before there was a shell."));
      return;
    }
    this.#become("broken", why || "The line broke.");
    this.#timer = setTimeout(() => void this.#connect(), pause(this.#attempt++));
  }

  #say(word: ShellWord): void {
    if (this.#state === "open") this.#socket?.send(JSON.stringify(word));
  }

  #hear(data: string | ArrayBuffer): void {
    if (typeof data !== "string") {
      this.#show(new Uint8Array(data, 1));
      return;
    }
    const word = JSON.parse(data) as ShellWord;
    if (word.opened) this.#begin(word.opened);
    if (word.taken !== undefined) this.#forget(word.taken);
    if (word.notice) this.events.notice(word.notice);
    if (word.problem) this.#problem = word.problem;
    if (word.displaced) this.#finish("left", "You have connected to this shell from another place; it goes on there.");
    if (word.ended) {
      this.#say({ end: true });
      this.#finish("ended", endOf(word.ended));
    }
  }

  #begin(opened: NonNullable<ShellWord["opened"]>): void {
    this.#attempt = 0;
    this.#shellId = opened.shellId;
    this.#received = opened.offset;
    this.#acknowledged = opened.offset;
    this.#become("open");
    this.events.opened(opened.shellId, opened.user);
    if (opened.missed > 0)
      this.events.notice(`${String(opened.missed)} bytes of output came meanwhile that the host did not keep.`);
    this.#forget(opened.taken);
    for (const piece of this.#underWay) this.#send(piece);
    this.#say({ size: this.size });
  }

  #show(bytes: Uint8Array): void {
    this.#received += bytes.length;
    const upTo = this.#received;
    this.events.output(bytes, () => {
      if (upTo - this.#acknowledged < ACKNOWLEDGE_EVERY) return;
      this.#acknowledged = upTo;
      this.#say({ seen: upTo });
    });
  }

  #flush(): void {
    let onTheirWay = this.#underWay.reduce((sum, p) => sum + p.length, 0);
    for (let next = this.#waiting[0]; next && onTheirWay + next.length <= WINDOW; next = this.#waiting[0]) {
      this.#waiting.shift();
      this.#underWay.push(next);
      onTheirWay += next.length;
      this.#send(next);
    }
  }

  #send(piece: Uint8Array): void {
    const message = new Uint8Array(piece.length + 1);
    message.set(piece, 1);
    this.#socket?.send(message);
  }

  /** The host has so many bytes of input; a piece that it has in part stays as the rest of it. */
  #forget(upTo: number): void {
    for (let first = this.#underWay[0]; first && this.#taken < upTo; first = this.#underWay[0]) {
      const has = Math.min(first.length, upTo - this.#taken);
      this.#taken += has;
      if (has === first.length) this.#underWay.shift();
      else this.#underWay[0] = first.slice(has);
    }
    this.#flush();
  }
}

function endOf(end: RunEnd): string {
  if (end.reason) return end.reason;
  return end.exitStatus ? `Its exit status was ${String(end.exitStatus)}.` : "";
}
