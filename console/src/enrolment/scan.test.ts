import { describe, expect, it } from "vitest";
import type { ScanFind, ScanInfo } from "../api/types";
import { around, shownFinds, take } from "./useScan";

const info = { id: "s", state: "running" } as ScanInfo;
const find = (address: string, more: Partial<ScanFind> = {}): ScanFind =>
  ({ address, openPorts: [], ...more }) as ScanFind;

describe("a live scan", () => {
  it("keeps what was found, takes changes in, and starts afresh when the line is new", () => {
    const first = take({ info: undefined, finds: new Map() }, { reset: true, info, finds: [find("198.51.100.9")] });
    const second = take(first, { reset: false, info, finds: [find("198.51.100.9", { name: "till-printer" })] });
    expect(second.finds.get("198.51.100.9")?.name).toBe("till-printer");
    expect(take(second, { reset: true, info, finds: [] }).finds.size).toBe(0);
  });

  it("is shown by address as numbers, filtered by any part, or only what has no agent", () => {
    const live = take(
      { info: undefined, finds: new Map() },
      {
        reset: true,
        info,
        finds: [
          find("198.51.100.20", { openPorts: [9100] }),
          find("198.51.100.3", { oursHostId: "h", oursLabel: "quay-ticket-01" }),
        ],
      },
    );
    expect(shownFinds(live, "", false).map((f) => f.address)).toEqual(["198.51.100.3", "198.51.100.20"]);
    expect(shownFinds(live, "9100", false).map((f) => f.address)).toEqual(["198.51.100.20"]);
    expect(shownFinds(live, "TICKET", false)).toHaveLength(1);
    expect(shownFinds(live, "", true).map((f) => f.address)).toEqual(["198.51.100.20"]);
  });

  it("suggests the network around a host with an IPv4 address", () => {
    expect(around("198.51.100.7")).toBe("198.51.100.0/24");
    expect(around("2001:db8::7")).toBe("");
    expect(around(undefined)).toBe("");
  });
});
