import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useLocation } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { estateStore } from "../estate/estateStore";
import { type Answering, answering, quayHost, show } from "../test-pages";
import { ComparePage } from "./ComparePage";
import { WallPage } from "./WallPage";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));
vi.mock("./MetricGraph", () => ({
  MetricGraph: ({ title, lines }: { title: string; lines: { label: string }[] }) => (
    <p>{`${title}: ${lines.map((l) => l.label).join(" and ")}`}</p>
  ),
}));

let service: Answering;

const line = (what: string, more: object = {}) => ({
  severity: "critical",
  state: "open",
  what,
  raisedAt: "2026-11-28T09:02:00Z",
  alerts: [{ id: what, stateBy: "Tomasz Vail", stateAt: "2026-11-28T09:05:00Z", state: "open" }],
  ...more,
});

beforeEach(() => {
  service = answering();
  service.answers["GET customers"] = [200, { items: [] }];
  service.answers["GET overview"] = [
    200,
    {
      whole: { hosts: 18, linked: 15, lost: 2 },
      places: [
        {
          path: "Saltmarsh Ferry/Quay",
          hosts: 12,
          linked: 12,
          subsystems: [{ subsystem: "storage", worst: "warning", hosts: 1, alerts: 1 }],
        },
        { path: "Saltmarsh Ferry/Vessels", hosts: 6, linked: 3, subsystems: [] },
      ],
    },
  ];
});
afterEach(() => {
  estateStore.take({ reset: true, hosts: [] });
  vi.unstubAllGlobals();
});

describe("the wall", () => {
  it("has what is open before what somebody is at, and says how many more there are", async () => {
    const many = Array.from({ length: 8 }, (_, i) => line(`dunlin-till-0${i + 1} is lost`));
    service.answers["GET alerts"] = [
      200,
      { items: [line("the storage is nearly full", { state: "acknowledged" }), ...many] },
    ];
    show(<WallPage />, "/wall?scope=Saltmarsh+Ferry");
    expect(await screen.findByText("dunlin-till-01 is lost")).toBeVisible();
    expect(screen.getByText("and 2 more")).toBeVisible();
    expect(screen.queryByText("the storage is nearly full")).toBeNull();
    expect(await screen.findByText("12 of 12 linked")).toBeVisible();
    expect(screen.getByText("well")).toBeVisible();
    expect(screen.getByText("storage 1")).toHaveTextContent("storage 1 hosts, warning");
    expect(screen.getByRole("link", { name: "Leave" })).toHaveAttribute("href", "/now?scope=Saltmarsh%20Ferry");
  });

  it("is calm when nothing is, and says when it knows nothing new", async () => {
    service.answers["GET alerts"] = [200, { items: [] }];
    const { queries } = show(<WallPage />);
    expect(await screen.findByText("Nothing needs anybody.")).toBeVisible();
    service.answers["GET alerts"] = [503, { detail: "The service is going." }];
    await queries.invalidateQueries({ queryKey: ["alerts"] });
    expect(await screen.findByText(/the last that was known/)).toBeVisible();
    expect(screen.getByRole("alert")).toHaveTextContent("The service is going.");
    expect(screen.getByText("Nothing needs anybody.")).toBeVisible();
  });
});

describe("hosts compared", () => {
  function Where() {
    return <output aria-label="where">{useLocation().search}</output>;
  }
  const page = (at: string) =>
    show(
      <>
        <Where />
        <ComparePage />
      </>,
      at,
    );

  beforeEach(() => {
    estateStore.take({ reset: true, hosts: ["quay-ticket-10", "quay-ticket-2"].map((l) => quayHost(l)) });
    const series = { from: "2026-11-28T00:00:00Z", to: "2026-11-29T00:00:00Z", stepSeconds: 360, lines: [] };
    service.answers["GET hosts/quay-ticket-2/series"] = [200, series];
  });

  it("are chosen by name, in natural order, and stand in the address", async () => {
    page("/compare");
    expect(screen.getByText("No host is chosen")).toBeVisible();
    await userEvent.click(screen.getByRole("combobox", { name: "Hosts" }));
    const offered = await screen.findAllByRole("option", { name: /Saltmarsh/, hidden: true });
    expect(offered.map((o) => o.textContent)).toEqual([
      "quay-ticket-2 of Saltmarsh Ferry ▸ Quay",
      "quay-ticket-10 of Saltmarsh Ferry ▸ Quay",
    ]);
    await userEvent.click(offered[0] as HTMLElement);
    await waitFor(() => expect(screen.getByLabelText("where")).toHaveTextContent("?hosts=quay-ticket-2"));
    expect(await screen.findByText("Nothing is known of that time of quay-ticket-2.")).toBeVisible();
    await userEvent.click(screen.getByRole("radio", { name: "week" }));
    await waitFor(() => expect(screen.getByLabelText("where")).toHaveTextContent("span=week"));
  });

  it("says what the service says when one can't be read", async () => {
    service.answers["GET hosts/quay-ticket-2/series"] = [403, { detail: "You may not see it." }];
    page("/compare?hosts=quay-ticket-2");
    expect(await screen.findByText("You may not see it.")).toBeVisible();
  });
});
