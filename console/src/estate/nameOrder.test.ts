import { describe, expect, it } from "vitest";
import type { HostSummary } from "../api/types";
import { NameOrder } from "./nameOrder";
import { naturally } from "./naturalOrder";

const called = (id: string, label: string) => ({ id, label }) as HostSummary;

describe("hosts by their names", () => {
  it("stay in order whatever comes, goes and is called otherwise", () => {
    const order = new NameOrder();
    const there = new Map<string, string>();
    let seed = 7;
    const any = (below: number) => (seed = (seed * 48_271) % 2_147_483_647) % below;
    for (let round = 0; round < 200; round++) {
      const some = new Map(Array.from({ length: any(9) }, () => [`h${any(60)}`, `quay-${any(30)}`]));
      order.put([...some].map(([id, label]) => called(id, label)));
      for (const [id, label] of some) there.set(id, label);
      const gone = [...there.keys()].filter(() => any(12) === 0).concat("never there");
      order.remove(gone);
      for (const id of gone) there.delete(id);
      const labels = order.ids.map((id) => there.get(id) ?? "?");
      expect(labels).toEqual([...there.values()].sort(naturally));
      expect(new Set(order.ids)).toEqual(new Set(there.keys()));
    }
  });

  it("is the same list as long as nothing is called otherwise", () => {
    const order = new NameOrder();
    order.put([called("a", "quay-2"), called("b", "quay-10")]);
    const before = order.ids;
    order.put([called("b", "quay-10")]);
    order.remove(["c"]);
    expect(order.ids).toBe(before);
    order.put([called("b", "Quay-1"), called("b", "quay-10")]);
    expect(order.ids).toBe(before);
    order.put([called("b", "Quay-1")]);
    expect(order.ids).toEqual(["b", "a"]);
  });
});
