import { follow, type LineState } from "../api/live";
import type { EstateChanges, HostSummary } from "../api/types";

export interface Estate {
  hosts: ReadonlyMap<string, HostSummary>;
  line: LineState;
  /** True once the first message has come: an empty estate is then really empty. */
  known: boolean;
}

/**
 * The estate as the service tells it, for everything on screen. Changes are gathered and shown at most once a frame's
 * worth of time, so that five hundred of them a second stay one redraw.
 */
export class EstateStore {
  private estate: Estate = { hosts: new Map(), line: "connecting", known: false };
  private listeners = new Set<() => void>();
  private stop: (() => void) | undefined;

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
      (line) => this.set({ ...this.estate, line }),
    );
  }

  close() {
    this.stop?.();
    this.stop = undefined;
    this.set({ hosts: new Map(), line: "connecting", known: false });
  }

  take(changes: EstateChanges) {
    const hosts = new Map(changes.reset ? [] : this.estate.hosts);
    for (const host of changes.hosts) hosts.set(host.id, host);
    this.set({ ...this.estate, hosts, known: true });
  }

  private set(estate: Estate) {
    this.estate = estate;
    for (const listener of this.listeners) listener();
  }
}

export const estateStore = new EstateStore();
