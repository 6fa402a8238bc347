import { describe, expect, it } from "vitest";
import { auditQuery, detailWords } from "./detail";

describe("a line of the audit log", () => {
  it("is told in words, without ids, and whatever it holds", () => {
    expect(detailWords('{"id":"01a20998-1e6b-72ea-a525-939277261201","hosts":"3","command":"uptime"}')).toBe(
      "hosts 3, command uptime",
    );
    expect(detailWords("{}")).toBe("");
    expect(detailWords("no json")).toBe("no json");
    expect(detailWords("5")).toBe("5");
  });

  it("is looked for by whole days", () => {
    const none = { action: "", actor: "", target: "", from: "", to: "" };
    expect(auditQuery(none)).toEqual({});
    const { from, to, action } = auditQuery({ ...none, action: "host", from: "2026-11-20", to: "2026-11-20" });
    expect(action).toBe("host");
    expect(Date.parse(to ?? "") - Date.parse(from ?? "")).toBe(86_400_000);
  });
});
