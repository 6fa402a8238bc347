import { describe, expect, it } from "vitest";
import type { HostService } from "../api/types";
import { actOn } from "./ProgramFields";
import { arrangeServices, whyNot } from "./services";

const make = (name: string, more: Partial<HostService> = {}): HostService => ({
  name,
  state: "runs",
  start: "with-system",
  ...more,
});

describe("services", () => {
  const all = [
    make("cups", { description: "Printing" }),
    make("ticket-print", { state: "failed" }),
    make("rsync", { state: "stopped", start: "by-hand" }),
    make("apparmor", { state: "done" }),
  ];

  it("have what has failed first, and are searched", () => {
    expect(arrangeServices(all, "", "all").map((s) => s.name)).toEqual(["ticket-print", "apparmor", "cups", "rsync"]);
    expect(arrangeServices(all, "PRINT", "all").map((s) => s.name)).toEqual(["ticket-print", "cups"]);
    expect(arrangeServices(all, "", "trouble").map((s) => s.name)).toEqual(["ticket-print"]);
    expect(arrangeServices(all, "", "running").map((s) => s.name)).toEqual(["ticket-print", "apparmor", "cups"]);
  });

  it("say why an act makes no sense", () => {
    expect(whyNot(make("cups"), "start")).toBe("It runs already");
    expect(whyNot(make("cups"), "restart")).toBeUndefined();
    expect(whyNot(make("rsync", { state: "stopped" }), "stop")).toBe("It does not run");
    expect(whyNot(make("dbus", { start: "by-others" }), "disable")).toContain("neither enabled nor disabled");
    expect(whyNot(make("nfs", { state: "stopped", start: "never" }), "start")).toContain("masked");
    expect(whyNot(make("nfs", { state: "stopped", start: "never" }), "show")).toBeUndefined();
    expect(whyNot(make("rsync", { start: "by-hand" }), "enable")).toBeUndefined();
  });
});

it("asks agents for one thing", () => {
  expect(actOn("firefox-esr", "find")).toEqual({ find: { text: "firefox-esr" } });
  expect(actOn("firefox-esr", "kill")).toEqual({ end: { which: { program: "firefox-esr" }, force: true } });
  expect(actOn("cups", "reload")).toEqual({ service: { name: "cups", act: "reload" } });
});
