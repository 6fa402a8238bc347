import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { HostPolicy, HostPolicyPart, PolicyPlace } from "../api/types";
import { type Answering, answering, show } from "../test-pages";
import { PoliciesPage } from "./PoliciesPage";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

let service: Answering;

const wanted: HostPolicy = { allowed: ["watch", "run"], consent: "never", notice: "none", keyFor: ["run"] };
const place = (news: Partial<PolicyPlace>, own: HostPolicyPart): PolicyPlace => ({
  id: "quay",
  isHost: false,
  place: "Saltmarsh Ferry/Quay",
  groupPath: "Saltmarsh Ferry/Quay",
  own,
  wanted,
  changedBy: "Ines Okafor",
  changedAt: "2026-11-28T09:02:00Z",
  ...news,
});

beforeEach(() => {
  service = answering();
  service.answers["GET me"] = [200, { name: "Ines Okafor", everywhere: ["administer"], anywhere: ["administer"] }];
  service.answers["GET groups"] = [
    200,
    { items: [{ id: "quay", path: "Saltmarsh Ferry/Quay", name: "Quay", may: ["see", "administer"] }] },
  ];
  service.answers["GET policies"] = [200, { items: [place({}, { allowed: ["watch", "run"], keyFor: ["run"] })] }];
});
afterEach(() => vi.unstubAllGlobals());

const rows = async () => {
  const table = await screen.findByRole("table");
  await within(table).findByText("Everything");
  return within(table).getAllByRole("row").slice(1);
};

describe("what hosts allow", () => {
  it("stands place by place, and tells what a place says itself from what comes from above", async () => {
    show(<PoliciesPage />);
    await screen.findByRole("link", { name: /Quay/ });
    const [everything, quay] = (await rows()) as [HTMLElement, HTMLElement];
    expect(everything).toHaveTextContent("Everything");
    expect(quay).toHaveTextContent(/said by Ines Okafor/);
    const cells = within(quay).getAllByRole("cell");
    expect(cells[0]).not.toHaveTextContent("not said here");
    expect(cells[1]).toHaveTextContent("not said here");
    expect(cells[3]).not.toHaveTextContent("not said here");
  });

  it("can be said only where one administers", async () => {
    service.answers["GET me"] = [200, { name: "Priya Lund", everywhere: [], anywhere: ["see"] }];
    service.answers["GET groups"] = [
      200,
      { items: [{ id: "quay", path: "Saltmarsh Ferry/Quay", name: "Quay", may: ["see"] }] },
    ];
    show(<PoliciesPage />);
    await screen.findByRole("link", { name: /Quay/ });
    expect(screen.queryByRole("button", { name: "Change" })).toBeNull();
    expect(screen.queryByRole("combobox", { name: "Say something for a group" })).toBeNull();
  });

  it("is narrowed to the scope, with what holds above it", async () => {
    service.answers["GET policies"] = [
      200,
      {
        items: [
          place({}, {}),
          place({ id: "ferry", place: "Saltmarsh Ferry", groupPath: "Saltmarsh Ferry" }, {}),
          place({ id: "library", place: "Copperbeech Libraries", groupPath: "Copperbeech Libraries" }, {}),
          place({ id: "h", isHost: true, place: "quay-ticket-03" }, {}),
        ],
      },
    ];
    show(<PoliciesPage />, "/rules/policies?scope=Saltmarsh%20Ferry/Quay");
    await screen.findByRole("link", { name: "quay-ticket-03" });
    expect(screen.queryByText("Copperbeech Libraries")).toBeNull();
    expect(screen.getAllByRole("row")).toHaveLength(4);
  });

  it("opens the place that is to say something else", async () => {
    service.answers["GET groups/quay/policy"] = [200, { own: {}, above: wanted, wanted, version: 4 }];
    show(<PoliciesPage />);
    await screen.findByRole("link", { name: /Quay/ });
    const [, quay] = (await rows()) as [HTMLElement, HTMLElement];
    await userEvent.click(within(quay).getByRole("button", { name: "Change" }));
    expect(await screen.findByRole("dialog")).toBeVisible();
    expect(service.asked.map((a) => a.path)).toContain("groups/quay/policy");
  });
});
