import { MantineProvider } from "@mantine/core";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render, screen } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { describe, expect, it } from "vitest";
import type { HostSummary, Permission, ScreenInfo } from "../api/types";
import { DesktopPanel } from "./DesktopPanel";

const host = {
  id: "h",
  label: "plover-log-01",
  groupPath: "Saltmarsh Ferry/Plover",
  presence: { state: "linked" },
} as HostSummary;

const person: ScreenInfo = { name: ":0", person: "jo", problem: null, isGiven: false };
const given: ScreenInfo = { name: ":64", person: null, problem: null, isGiven: true };

function show(may: Permission[], screens: ScreenInfo[], giveScreen: boolean | null = null, state = "linked") {
  const queries = new QueryClient({ defaultOptions: { queries: { enabled: false } } });
  queries.setQueryData(["groups"], [{ path: host.groupPath, may }]);
  queries.setQueryData(["screens", "h"], screens);
  queries.setQueryData(["policy", { host: "h" }], { side: { inForce: { giveScreen } } });
  render(
    <MantineProvider env="test">
      <QueryClientProvider client={queries}>
        <MemoryRouter>
          <DesktopPanel host={{ ...host, presence: { ...host.presence, state } as HostSummary["presence"] }} />
        </MemoryRouter>
      </QueryClientProvider>
    </MantineProvider>,
  );
}

const all: Permission[] = ["see", "watch", "control", "shell"];
const doors = () => screen.queryAllByRole("link").map((l) => l.getAttribute("href"));

describe("the doors to a desktop", () => {
  it("are two for each screen, which they name where there are several", () => {
    show(all, [person, given]);
    expect(doors()).toEqual([
      "/hosts/h/desktop?as=watch&screen=%3A0",
      "/hosts/h/desktop?as=control&screen=%3A0",
      "/hosts/h/desktop?as=watch&screen=%3A64",
      "/hosts/h/desktop?as=control&screen=%3A64",
    ]);
    expect(screen.getByText("of jo")).toBeVisible();
    expect(screen.getByText("given to the host for technicians")).toBeVisible();
  });

  it("leave the screen open where there is one, as it may come back under another name", () => {
    show(all, [person]);
    expect(doors()).toEqual(["/hosts/h/desktop?as=watch", "/hosts/h/desktop?as=control"]);
  });

  it.each<[string, Permission[], ScreenInfo, string[]]>([
    ["who may only look", ["watch"], person, ["watch"]],
    ["who may open no shell, at a person's screen", ["watch", "control"], person, ["watch", "control"]],
    ["who may open no shell, at a given one", ["watch", "control"], given, ["watch"]],
  ])("are shut to %s", (_, may, at, open) => {
    show(may, [at]);
    expect(doors()).toEqual(open.map((o) => `/hosts/h/desktop?as=${o}`));
    expect(screen.queryAllByRole("button")).toHaveLength(2 - open.length);
  });

  it("say what is wrong with a screen instead", () => {
    show(all, [{ ...person, problem: "Somebody is logged in with Wayland." }]);
    expect(doors()).toEqual([]);
    expect(screen.getByText("Somebody is logged in with Wayland.")).toBeVisible();
  });

  it("take a host that is linked", () => {
    show(all, [person], null, "away");
    expect(screen.getByText(/plover-log-01 is away/)).toBeVisible();
    expect(doors()).toEqual([]);
  });
});

describe("a host without a screen", () => {
  it("is given one when somebody comes to control it", () => {
    show(all, []);
    expect(screen.getByText(/has no screen. It is given one, with a terminal/)).toBeVisible();
    expect(doors()).toEqual(["/hosts/h/desktop?as=control"]);
  });

  it("is not where its policy says no", () => {
    show(all, [], false);
    expect(screen.getByText(/its host policy does not have it given one/)).toBeVisible();
    expect(doors()).toEqual([]);
  });

  it("is not for who may open no shell, and the door says what is missing", () => {
    show(["watch", "control"], []);
    expect(doors()).toEqual([]);
    expect(screen.getByRole("button", { name: /Control plover-log-01/ })).toBeVisible();
  });
});
