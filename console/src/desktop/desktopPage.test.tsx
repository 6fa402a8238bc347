import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { act } from "react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { estateStore } from "../estate/estateStore";
import { quayHost, show, Where, where } from "../test-pages";
import { ChannelEnd, Drawer, type Service, standIn } from "../test-service";
import { DesktopPage } from "./DesktopPage";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

const host = quayHost("quay-ticket-01");
let service: Service;
let answers: Record<string, object>;

const page = (as: string) =>
  show(
    <>
      <Where />
      <Routes>
        <Route path="/hosts/:id/desktop" element={<DesktopPage />} />
        <Route path="*" element={null} />
      </Routes>
    </>,
    `/hosts/${host.id}/desktop?as=${as}`,
  );
/** Waits for the channel, and has the host say that it shows a screen. */
const connected = async (person?: string) => {
  await waitFor(() => expect(ChannelEnd.all).toHaveLength(1));
  act(() => ChannelEnd.last.word({ opened: { screen: ":0", person, control: true } }));
};

beforeEach(() => {
  service = standIn();
  vi.stubGlobal("Worker", Drawer);
  Object.defineProperty(HTMLCanvasElement.prototype, "transferControlToOffscreen", {
    value: () => ({}),
    configurable: true,
  });
  answers = {
    "GET /me": { name: "Ines Okafor", everywhere: [], anywhere: [] },
    "GET /groups": { items: [{ id: "q", path: host.groupPath, name: "Quay", may: ["see", "watch", "control"] }] },
    [`GET /hosts/${host.id}/policy`]: { side: { inForce: { keyFor: [] } } },
    "GET /customers": { items: [] },
    "GET /secrets": { items: [] },
  };
  service.answer = (path) => answers[path] ?? (path.startsWith("GET") ? { items: [] } : undefined);
  estateStore.take({ reset: true, hosts: [host] });
});
afterEach(() => {
  estateStore.take({ reset: true, hosts: [] });
  vi.unstubAllGlobals();
});

describe("the door to a desktop", () => {
  it("says that there is no such host", async () => {
    estateStore.take({ reset: true, hosts: [] });
    page("watch");
    expect(await screen.findByText("There is no such host")).toBeVisible();
  });

  it("says to who may not why, and opens nothing", async () => {
    answers["GET /groups"] = { items: [{ id: "q", path: host.groupPath, name: "Quay", may: ["see", "watch"] }] };
    answers[`GET /hosts/${host.id}/access`] = {
      answers: [
        { permission: "control", may: false, sentence: "Your role viewer holds no control.", remedy: "Ask a lead." },
      ],
    };
    page("control");
    expect(await screen.findByText("Your role viewer holds no control. Ask a lead.")).toBeVisible();
    expect(ChannelEnd.all).toHaveLength(0);
  });

  it("waits for a host that is away", async () => {
    estateStore.take({ reset: false, hosts: [{ ...host, presence: { ...host.presence, state: "away" } }] });
    page("watch");
    expect(await screen.findByText("quay-ticket-01 is away")).toBeVisible();
    expect(ChannelEnd.all).toHaveLength(0);
    act(() => estateStore.take({ reset: true, hosts: [host] }));
    await waitFor(() => expect(ChannelEnd.all).toHaveLength(1));
  });

  it("asks for the key of a host that wants it", async () => {
    answers[`GET /hosts/${host.id}/policy`] = { side: { inForce: { keyFor: ["control"] } } };
    page("control");
    expect(await screen.findByRole("heading", { name: "Control quay-ticket-01 of Saltmarsh Ferry" })).toBeVisible();
    expect(await screen.findByText(/lets its desktop be controlled/)).toBeVisible();
    expect(ChannelEnd.all).toHaveLength(0);
  });
});

describe("a desktop", () => {
  it("says at all times whether one watches or controls, and whose screen it is", async () => {
    page("watch");
    await connected();
    expect(await screen.findByText("You watch")).toBeVisible();
    expect(await screen.findByText("screen :0, nobody logged in")).toBeVisible();
    expect(screen.getByText("What it shows is recorded")).toBeVisible();
    expect(screen.queryByRole("button", { name: "At the desk" })).toBeNull();
    act(() => ChannelEnd.last.word({ person: { name: "elin.marlow" } }));
    expect(await screen.findByText("screen :0, of elin.marlow")).toBeVisible();
    expect(screen.getByText("elin.marlow has logged in there.")).toBeVisible();

    await userEvent.click(screen.getByRole("link", { name: "Control quay-ticket-01" }));
    expect(await screen.findByText("You control")).toBeVisible();
    expect(where()).toBe("/hosts/quay-ticket-01/desktop?as=control");
    expect(ChannelEnd.all).toHaveLength(2);
  });

  it("says what it waits for, and opens again what has ended", async () => {
    page("control");
    expect(await screen.findByText("Asking quay-ticket-01 for its screen …")).toBeVisible();
    await waitFor(() => expect(ChannelEnd.all).toHaveLength(1));
    act(() => ChannelEnd.last.word({ notice: "A person at the host is asked first." }));
    expect(await screen.findByText("A person at the host is asked first.")).toBeVisible();
    expect(screen.getByRole("button", { name: "Save a picture" })).toHaveAttribute("title", "Nothing is shown yet");
    act(() => ChannelEnd.last.word({ refusal: "elin.marlow, who is logged in there, has refused it." }));
    expect(await screen.findByRole("alert")).toHaveTextContent("has refused it.");
    await userEvent.click(screen.getByRole("button", { name: "Open it again" }));
    await waitFor(() => expect(ChannelEnd.all).toHaveLength(2));
    expect(screen.queryByRole("alert")).toBeNull();
  });

  it("is given another size, and told who else is there", async () => {
    page("control");
    await connected("elin.marlow");
    act(() => {
      Drawer.last.says({ kind: "size", width: 1280, height: 800 });
      ChannelEnd.last.word({ others: [{ technician: "Tomasz Vail", control: true, acts: false }] });
    });
    expect(await screen.findByText(/Also here:/)).toHaveTextContent("Also here: Tomasz Vail may control");
    const said = ChannelEnd.last.said.length;
    await userEvent.click(screen.getByRole("button", { name: "1280 x 800" }));
    await userEvent.click(await screen.findByRole("menuitem", { name: "1024 x 768" }));
    // SetDesktopSize: message type 251, width and height.
    const asked = new Uint8Array(ChannelEnd.last.said[said] as ArrayBuffer);
    expect([...asked.slice(0, 6)]).toEqual([251, 0, 4, 0, 3, 0]);
    const tools = screen.getByRole("toolbar", { name: "Of the desktop" });
    await userEvent.click(within(tools).getByRole("link", { name: "Leave" }));
    await waitFor(() => expect(where()).toBe("/hosts/quay-ticket-01"));
    expect(ChannelEnd.last.readyState).toBe(3);
    expect(Drawer.last.isOver).toBe(true);
  });
});
