import { follow, type LineState } from "../api/live";
import type { EstateChanges, HostSummary } from "../api/types";
import { NameOrder } from "./nameOrder";

export interface Estate {
  /** One map that is changed in place: thirty thousand hosts are not copied for each message. */
  hosts: ReadonlyMap<string, HostSummary>;
  /** Their ids by name; another list whenever that order is another. */
  byName: readonly string[];
  line: LineState;
  /** True once the first message has come: an empty estate is then really empty. */
  known: boolean;
  /** Another number whenever a host has changed. */
  version: number;
  /** Another number whenever hosts came or went, or changed their name, place or tags: what lists are ordered and narrowed by. */
  shape: number;
  /** Another number whenever hosts came or went, or are linked or away where they were not. */
  standing: number;
}

/** Listeners are told at most so often; the first change after a quiet time at once. */
const PACE_MS = 100;
/** Telling takes at most one part in so many of the time: the rest is the technician's. */
const TELLING_SHARE = 5;

/** The estate as the service tells it, for everything on screen. */
export class EstateStore {
  private hosts = new Map<string, HostSummary>();
  private names = new NameOrder();
  private estate: Estate = {
    hosts: this.hosts,
    byName: [],
    line: "connecting",
    known: false,
    version: 0,
    shape: 0,
    standing: 0,
  };
  private listeners = new Set<() => void>();
  private stop: (() => void) | undefined;
  private toldAt = -Infinity;
  private pace = PACE_MS;
  private timer: ReturnType<typeof setTimeout> | undefined;

  readonly subscribe = (listener: () => void) => {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  };

  readonly get = (): Estate => this.estate;

  open() {
    this.stop ??= follow<EstateChanges>(
      "Estate",
      [],
      (changes) => this.take(changes),
      (line) => this.set({ line }),
    );
  }

  close() {
    this.stop?.();
    this.stop = undefined;
    this.forget();
    this.set({
      hosts: this.hosts,
      byName: [],
      line: "connecting",
      known: false,
      shape: this.estate.shape + 1,
      standing: this.estate.standing + 1,
    });
  }

  take(changes: EstateChanges) {
    if (changes.reset) this.forget();
    let reshaped = changes.reset || (changes.gone?.length ?? 0) > 0;
    let restood = reshaped;
    for (const host of changes.hosts) {
      const before = this.hosts.get(host.id);
      reshaped ||= !before || shapeOf(before) !== shapeOf(host);
      restood ||= before?.presence.state !== host.presence.state;
      this.hosts.set(host.id, host);
    }
    this.names.put(changes.hosts);
    if (changes.gone?.length) {
      for (const id of changes.gone) this.hosts.delete(id);
      this.names.remove(changes.gone);
    }
    // Whoever waits for the first hosts waits no longer.
    if (changes.reset) this.toldAt = -Infinity;
    this.set({
      hosts: this.hosts,
      byName: this.names.ids,
      known: true,
      version: this.estate.version + 1,
      shape: this.estate.shape + (reshaped ? 1 : 0),
      standing: this.estate.standing + (restood ? 1 : 0),
    });
  }

  private forget() {
    this.hosts = new Map();
    this.names = new NameOrder();
  }

  private set(change: Partial<Estate>) {
    this.estate = { ...this.estate, ...change };
    const wait = this.toldAt + this.pace - performance.now();
    if (wait <= 0) this.tell();
    else this.timer ??= setTimeout(() => this.tell(), wait);
  }

  private tell() {
    clearTimeout(this.timer);
    this.timer = undefined;
    const began = performance.now();
    for (const listener of this.listeners) listener();
    this.toldAt = performance.now();
    this.pace = Math.max(PACE_MS, (this.toldAt - began) * TELLING_SHARE);
  }
}

const shapeOf = (h: HostSummary) =>
  `${h.label}\n${h.systemName}\n${h.groupPath}\n${h.address ?? ""}\n${h.users.join()}\n${h.tags.join()}\n${h.retiredAt ?? ""}`;

export const estateStore = new EstateStore();
