import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { type Answering, answering, show } from "../test-pages";
import { NowPage } from "./NowPage";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));
vi.mock("./TrendPanel", () => ({ TrendPanel: () => <p>trends</p> }));

let service: Answering;

const alert = (id: string, label: string, news: object = {}) => ({
  id,
  hostId: `h-${id}`,
  label,
  groupPath: "Saltmarsh Ferry/Vessels/Dunlin",
  check: "lost-contact",
  checkName: "Lost contact",
  severity: "critical",
  state: "open",
  what: `${label} is lost`,
  raisedAt: "2026-11-28T09:02:00Z",
  stateAt: "2026-11-28T09:02:00Z",
  ...news,
});
const line = (alerts: object[], news: object = {}) => ({
  severity: "critical",
  state: "open",
  what: "nothing is heard of it",
  raisedAt: "2026-11-28T09:02:00Z",
  alerts,
  ...news,
});
const overview = (hosts: number) => ({
  whole: { hosts, linked: hosts - 1, lost: 1 },
  places: [
    {
      path: "Saltmarsh Ferry",
      hosts: 18,
      linked: 17,
      subsystems: [{ subsystem: "reachability", worst: "critical", hosts: 1, alerts: 1 }],
    },
  ],
});

beforeEach(() => {
  service = answering();
  service.answers["GET me"] = [200, { name: "Ines Okafor", everywhere: ["configure"], anywhere: ["configure"] }];
  service.answers["GET groups"] = [200, { items: [] }];
  service.answers["GET overview"] = [200, overview(18)];
  service.answers["GET alerts"] = [200, { items: [] }];
});
afterEach(() => vi.unstubAllGlobals());

describe("what needs a person", () => {
  it("stands before what somebody is at, and a ship whose line is down is one line", async () => {
    service.answers["GET alerts"] = [
      200,
      {
        items: [
          line([alert("a", "dunlin-bridge"), alert("b", "dunlin-till")], { place: "Saltmarsh Ferry/Vessels/Dunlin" }),
          line([alert("c", "quay-office-01", { state: "acknowledged", stateBy: "Tomasz Vail" })], {
            state: "acknowledged",
            what: "the storage is nearly full",
          }),
        ],
      },
    ];
    show(<NowPage />);
    const ship = (await screen.findByRole("link", { name: "nothing is heard of it" })).closest(".row") as HTMLElement;
    expect(ship).toHaveTextContent(/dunlin-bridge, dunlin-till.*Saltmarsh Ferry ▸ Vessels ▸ Dunlin.*2 hosts/);
    const heading = screen.getByRole("heading", { name: "Somebody is at it, or it is quiet" });
    const quiet = screen.getByRole("link", { name: "the storage is nearly full" });
    expect(ship.compareDocumentPosition(heading)).toBe(Node.DOCUMENT_POSITION_FOLLOWING);
    expect(heading.compareDocumentPosition(quiet)).toBe(Node.DOCUMENT_POSITION_FOLLOWING);
    expect(quiet.closest(".row")).toHaveTextContent("Tomasz Vail is at it");
  });

  it("is counted, place by place and subsystem by subsystem, in words too", async () => {
    show(<NowPage />);
    const table = await screen.findByRole("table");
    const row = within(table).getByRole("row", { name: /Saltmarsh Ferry/ });
    expect(row).toHaveTextContent("17 of 18");
    expect(row).toHaveTextContent(/critical/i);
    expect(within(row).getAllByText("well")).toHaveLength(7);
    expect(screen.getByText("linked").textContent).toBe("17 linked");
    expect(screen.getByText("trends")).toBeVisible();
  });

  it("is nothing where every check is content", async () => {
    show(<NowPage />, "/now?scope=Saltmarsh%20Ferry/Quay");
    expect(await screen.findByText("Nothing needs anybody")).toBeVisible();
    expect(screen.getByText(/content with Saltmarsh Ferry ▸ Quay/)).toBeVisible();
    expect(screen.getByRole("heading", { name: "Places in Saltmarsh Ferry ▸ Quay" })).toBeVisible();
    expect(screen.getByRole("link", { name: "Wall display" })).toHaveAttribute(
      "href",
      "/wall?scope=Saltmarsh%20Ferry%2FQuay",
    );
  });

  it("is to let the first host join, where there is none", async () => {
    service.answers["GET overview"] = [200, { ...overview(0), places: [] }];
    show(<NowPage />);
    expect(await screen.findByText("No host has joined yet")).toBeVisible();
    expect(screen.queryByText("Nothing needs anybody")).toBeNull();
  });

  it("leaves what is over to be looked at", async () => {
    show(<NowPage />);
    await screen.findByText("Nothing needs anybody");
    service.answers["GET alerts"] = [
      200,
      {
        items: [
          line([alert("d", "creamery-files", { state: "cleared" })], { state: "cleared", what: "it was nearly full" }),
          line([alert("e", "quay-office-01")], { what: "still open" }),
        ],
      },
    ];
    await userEvent.click(screen.getByRole("radio", { name: "Over" }));
    expect(await screen.findByRole("link", { name: "it was nearly full" })).toBeVisible();
    expect(screen.getByRole("heading", { name: "What is over" })).toBeVisible();
    expect(screen.queryByText("still open")).toBeNull();
    expect(screen.queryByText("trends")).toBeNull();
  });

  it("says when the service can't be asked, and keeps what was known", async () => {
    service.answers["GET overview"] = [503, { detail: "The service is starting." }];
    show(<NowPage />);
    await waitFor(() => expect(screen.getByText("The service is starting.")).toBeVisible());
  });
});
