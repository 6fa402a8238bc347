import { act, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { HostSummary } from "../api/types";
import { type Answering, answering, quayHost, show } from "../test-pages";
import { BulkBar } from "./BulkBar";
import { estateStore } from "./estateStore";
import { HostActs } from "./HostActs";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

let service: Answering;

const QUAY = "Saltmarsh Ferry/Quay";

beforeEach(() => {
  service = answering();
  service.answers["GET groups"] = [
    200,
    {
      items: [
        { id: "q", path: QUAY, name: "Quay", hosts: 2, may: ["configure"] },
        { id: "p", path: "Saltmarsh Ferry/Plover", name: "Plover", hosts: 1, may: ["configure"] },
      ],
    },
  ];
  service.answers["GET customers"] = [
    200,
    { items: [{ name: "Saltmarsh Ferry", fields: [{ name: "berth", kind: "text", choices: [] }], emblem: null }] },
  ];
  service.answers["GET marks"] = [200, { items: [] }];
});
afterEach(() => {
  vi.unstubAllGlobals();
  act(() => estateStore.take({ reset: true, hosts: [] }));
});

const asked = (method: string, path: string) => service.asked.filter((a) => a.method === method && a.path === path);

describe("marked hosts", () => {
  const open = (hosts: HostSummary[]) => {
    const onClear = vi.fn();
    show(<BulkBar hosts={hosts} onClear={onClear} />);
    return onClear;
  };

  it("are led to what is done with several, by who they are", () => {
    open([quayHost("quay-ticket-01"), quayHost("quay-ticket-02")]);
    const links = screen
      .getAllByRole("link")
      .map((l) => [l.textContent, decodeURIComponent(l.getAttribute("href") ?? "")]);
    expect(links).toEqual([
      ["Compare their health", "/hosts/compare?hosts=quay-ticket-01,quay-ticket-02"],
      ["Watch their screens", "/hosts/screens?hosts=quay-ticket-01,quay-ticket-02"],
      [
        "Run a command on 2 hosts",
        `/work/new?on=("quay-ticket-01" and in "${QUAY}") or ("quay-ticket-02" and in "${QUAY}")`,
      ],
    ]);
  });

  it("are not compared where they are too many, nor watched", () => {
    open(Array.from({ length: 61 }, (_, i) => quayHost(`kiosk-${i}`)));
    expect(screen.getByText("61 hosts marked")).toBeVisible();
    expect(screen.getByText(/kiosk-3 and 57 more/)).toBeVisible();
    expect(screen.queryByRole("link", { name: "Compare their health" })).toBeNull();
    expect(screen.queryByRole("link", { name: "Watch their screens" })).toBeNull();
  });

  it("are changed only after what changes was seen", async () => {
    open([quayHost("quay-ticket-01"), quayHost("quay-ticket-02")]);
    const look = screen.getByRole("button", { name: "Show what changes" });
    expect(look).toHaveAttribute("title", "Choose a group, tags or an own field first");
    await userEvent.type(screen.getByRole("combobox", { name: "Add tags" }), "night{Enter}");
    service.answers["POST hosts/edits"] = [
      200,
      {
        preview: true,
        changed: 1,
        problems: [],
        changes: [{ label: "quay-ticket-01", what: "tags", before: "till", after: "night, till" }],
      },
    ];
    await userEvent.click(look);
    expect(await screen.findByRole("region", { name: "What would change" })).toHaveTextContent(
      "quay-ticket-01tagstill→ night, till",
    );
    // Whatever is chosen otherwise has to be seen anew.
    await userEvent.click(screen.getByRole("combobox", { name: "Move to" }));
    await userEvent.click(await screen.findByRole("option", { name: "Saltmarsh Ferry ▸ Plover", hidden: true }));
    expect(screen.queryByRole("region", { name: "What would change" })).toBeNull();
    await userEvent.click(look);
    service.answers["POST hosts/edits"] = [200, { preview: false, changed: 2, problems: [], changes: [] }];
    await userEvent.click(await screen.findByRole("button", { name: "Change 2 hosts" }));
    expect(await screen.findByRole("status")).toHaveTextContent("2 hosts changed.");
    expect(asked("POST", "hosts/edits").map((a) => (a.body as { preview: boolean }).preview)).toEqual([
      true,
      true,
      false,
    ]);
    expect(asked("POST", "hosts/edits").at(-1)?.body).toEqual({
      selection: null,
      hostIds: ["quay-ticket-01", "quay-ticket-02"],
      groupPath: "Saltmarsh Ferry/Plover",
      addTags: ["night"],
      removeTags: [],
      own: null,
      preview: false,
    });
  });

  it("are not changed while one of them can't be", async () => {
    open([quayHost("quay-ticket-01")]);
    await userEvent.type(screen.getByRole("combobox", { name: "Take tags away" }), "till{Enter}");
    service.answers["POST hosts/edits"] = [
      200,
      {
        preview: true,
        changed: 0,
        changes: [],
        problems: [{ hostId: "a", label: "quay-ticket-01", problem: "You may not configure it." }],
      },
    ];
    await userEvent.click(screen.getByRole("button", { name: "Show what changes" }));
    expect(await screen.findByText("You may not configure it.")).toBeVisible();
    expect(screen.getByText("Nothing is changed while one of them can’t be.")).toBeVisible();
    expect(screen.queryByRole("button", { name: /^Change/ })).toBeNull();
  });
});

describe("what is done with a host itself", () => {
  const open = async (of: HostSummary, item?: RegExp | string) => {
    show(
      <Routes>
        <Route path="/" element={<HostActs host={of} />} />
        <Route path="/hosts/:id" element="the other entry" />
      </Routes>,
    );
    await userEvent.click(screen.getByRole("button", { name: of.retiredAt ? "Retired" : "More" }));
    if (item) await userEvent.click(await screen.findByRole("menuitem", { name: item }));
  };

  it("moves it to where the button says", async () => {
    service.answers["POST hosts/edits"] = [403, { detail: "You may not configure Plover." }];
    await open(quayHost("quay-ticket-01"), "Move quay-ticket-01 …");
    expect(screen.getByRole("button", { name: "Move quay-ticket-01" })).toHaveAttribute(
      "title",
      "Choose a group first",
    );
    await userEvent.click(screen.getByRole("combobox", { name: "Where to" }));
    await userEvent.click(await screen.findByRole("option", { name: "Saltmarsh Ferry ▸ Plover", hidden: true }));
    await userEvent.click(screen.getByRole("button", { name: "Move quay-ticket-01 to Saltmarsh Ferry ▸ Plover" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("You may not configure Plover.");
    expect(asked("POST", "hosts/edits")[0]?.body).toMatchObject({
      hostIds: ["quay-ticket-01"],
      groupPath: "Saltmarsh Ferry/Plover",
      preview: false,
    });
  });

  it("says what follows before it is retired", async () => {
    service.answers["POST hosts/quay-ticket-01/retire"] = [
      200,
      { says: ["2 alerts are closed.", "Its agent is cut off."] },
    ];
    await open(quayHost("quay-ticket-01"), "Retire quay-ticket-01 …");
    expect(await screen.findByText("Its agent is cut off.")).toBeVisible();
    await userEvent.type(screen.getByLabelText("Why, for its time line"), "sold");
    await userEvent.click(screen.getByRole("button", { name: "Retire quay-ticket-01 of Saltmarsh Ferry" }));
    await waitFor(() => {
      expect(asked("POST", "hosts/quay-ticket-01/retire").map((a) => a.body)).toEqual([
        { preview: true, reason: null },
        { preview: false, reason: "sold" },
      ]);
    });
  });

  it("puts it into another entry once its name was typed, as that can't be undone", async () => {
    act(() => estateStore.take({ reset: true, hosts: [quayHost("quay-ticket-01"), quayHost("quay-ticket-02")] }));
    service.answers["POST hosts/quay-ticket-01/merge"] = [200, { says: ["3 jobs go over."] }];
    await open(quayHost("quay-ticket-01"), "Put it together with another entry …");
    const button = () => screen.getByRole("button", { name: /^Put quay-ticket-01 of Saltmarsh Ferry into/ });
    expect(button()).toHaveAttribute("title", "Choose the entry that stays first");
    await userEvent.click(screen.getByRole("combobox", { name: "The entry that stays" }));
    expect(screen.getAllByRole("option", { hidden: true }).map((o) => o.textContent)).toEqual([
      "quay-ticket-02 of Saltmarsh Ferry ▸ Quay",
    ]);
    await userEvent.click(screen.getByRole("option", { hidden: true }));
    expect(await screen.findByText("3 jobs go over.")).toBeVisible();
    expect(button()).toHaveAttribute("title", "Type quay-ticket-01 first");
    await userEvent.type(screen.getByLabelText(/^This can’t be undone/), "quay-ticket-01");
    await userEvent.click(button());
    expect(await screen.findByText("the other entry")).toBeVisible();
    expect(asked("POST", "hosts/quay-ticket-01/merge").at(-1)?.body).toEqual({
      into: "quay-ticket-02",
      preview: false,
    });
  });

  it("restores one that was retired, and says where that fails", async () => {
    service.answers["POST hosts/quay-ticket-01/restore"] = [409, { detail: "Another host has its name by now." }];
    await open(quayHost("quay-ticket-01", { retiredAt: "2026-11-01T00:00:00Z" }), "Restore quay-ticket-01");
    expect(await screen.findByText("Another host has its name by now.")).toBeVisible();
  });

  it("is not for who may not, except for marks of one's own", async () => {
    service.answers["GET groups"] = [200, { items: [{ id: "q", path: QUAY, name: "Quay", hosts: 2, may: ["see"] }] }];
    service.answers["GET hosts/quay-ticket-01/access"] = [
      200,
      { answers: [{ permission: "configure", sentence: "You may not configure Quay." }] },
    ];
    await open(quayHost("quay-ticket-01"));
    expect(await screen.findByText(/You may not configure Quay./)).toBeVisible();
    expect(screen.queryByRole("menuitem", { name: /^Retire/ })).toBeNull();
    expect(screen.getByRole("group", { name: "My colour for it" })).toBeVisible();
  });
});
