import type { HostSummary } from "../api/types";
import { naturalKey } from "./naturalOrder";

/** The ids of many hosts by their names, kept in order while hosts come, go and are called otherwise: thirty thousand are not sorted anew for each. */
export class NameOrder {
  #ids: string[] = [];
  #names = new Map<string, string>();

  /** Another list whenever it has changed. */
  get ids(): readonly string[] {
    return this.#ids;
  }

  /** Puts these hosts where they belong now. */
  put(hosts: readonly HostSummary[]): void {
    const moved = new Map<string, string>();
    const left = new Set<string>();
    // Of one that comes twice the last counts.
    for (const host of new Map(hosts.map((h) => [h.id, h])).values()) {
      const name = naturalKey(host.label);
      const before = this.#names.get(host.id);
      if (before === name) continue;
      moved.set(host.id, name);
      if (before !== undefined) left.add(host.id);
    }
    if (moved.size === 0) return;
    const kept = this.#without(left);
    for (const [id, name] of moved) this.#names.set(id, name);
    const coming = [...moved].sort(([, a], [, b]) => (a < b ? -1 : a > b ? 1 : 0));
    const merged: string[] = [];
    let from = 0;
    for (const [id, name] of coming) {
      const at = this.#placeOf(kept, name, from);
      for (; from < at; from++) merged.push(kept[from] as string);
      merged.push(id);
    }
    for (; from < kept.length; from++) merged.push(kept[from] as string);
    this.#ids = merged;
  }

  remove(ids: readonly string[]): void {
    const left = new Set(ids.filter((id) => this.#names.delete(id)));
    this.#ids = this.#without(left);
  }

  #without(left: ReadonlySet<string>): string[] {
    return left.size === 0 ? this.#ids : this.#ids.filter((id) => !left.has(id));
  }

  /** Where a name belongs, behind those that are alike. */
  #placeOf(ids: readonly string[], name: string, from: number): number {
    let [low, high] = [from, ids.length];
    while (low < high) {
      const middle = (low + high) >> 1;
      if ((this.#names.get(ids[middle] as string) as string) <= name) low = middle + 1;
      else high = middle;
    }
    return low;
  }
}
