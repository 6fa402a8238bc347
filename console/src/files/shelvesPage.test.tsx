import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { type Answering, answering, choose, show, Where, where } from "../test-pages";
import { ShelfPage } from "./ShelfPage";
import { ShelvesPage } from "./ShelvesPage";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

let service: Answering;
const shelf = {
  id: "timetables",
  name: "Timetables",
  groupId: "quay",
  groupPath: "Saltmarsh Ferry/Quay",
  files: 1,
  bytes: 2048,
  createdAt: "2026-11-20T08:00:00Z",
  createdBy: "Ines Okafor",
};
const entry = (text: string, kind: string, more: object = {}) => ({
  name: { text },
  kind,
  bytes: 2048,
  mode: 0o644,
  changedAt: "2026-11-21T06:30:00Z",
  ...more,
});

const page = (at: string) =>
  show(
    <>
      <Where />
      <Routes>
        <Route path="/work/shelves" element={<ShelvesPage />} />
        <Route path="/work/shelves/:id" element={<ShelfPage />} />
      </Routes>
    </>,
    at,
  );

beforeEach(() => {
  service = answering();
  service.answers["GET me"] = [
    200,
    { name: "Ines Okafor", everywhere: [], anywhere: ["see", "read-files", "write-files"] },
  ];
  service.answers["GET groups"] = [
    200,
    { items: [{ id: "quay", path: "Saltmarsh Ferry/Quay", name: "Quay", may: ["see", "write-files"] }] },
  ];
  service.answers["GET shelves"] = [200, [shelf]];
  service.answers["GET shelves/timetables"] = [200, shelf];
  service.answers["GET shelves/timetables/entries"] = [
    200,
    {
      items: [
        entry("winter.pdf", "file"),
        entry("ferries", "folder"),
        entry("now", "link", { target: { text: "ferries/winter" } }),
        entry("caf\ufffd", "file", { name: { text: "caf\ufffd", bytes: "Y2Fm6Q==" } }),
      ],
      total: 4,
    },
  ];
});
afterEach(() => vi.unstubAllGlobals());

it("lists what the service keeps, and a new one belongs to a group", async () => {
  service.answers["POST shelves"] = [201, { ...shelf, id: "forms", name: "Forms" }];
  service.answers["GET shelves/forms"] = [200, { ...shelf, id: "forms", name: "Forms", files: 0 }];
  service.answers["GET shelves/forms/entries"] = [200, { items: [], total: 0 }];
  page("/work/shelves");
  const row = await screen.findByRole("link", { name: /Timetables/ });
  expect(row).toHaveTextContent("Saltmarsh Ferry ▸ Quay1 file2.0 KiB");
  expect(row).toHaveAttribute("href", "/work/shelves/timetables");

  await userEvent.click(screen.getByRole("button", { name: "New shelf" }));
  const make = screen.getByRole("button", { name: "Make the shelf" });
  expect(make).toBeDisabled();
  expect(screen.getByText("Give it a name first")).toBeVisible();
  await userEvent.type(screen.getByRole("textbox", { name: "Name" }), " Forms ");
  expect(screen.getByText(/^Choose the group/)).toBeVisible();
  await choose(screen.getByRole("combobox", { name: "Group" }), "Saltmarsh Ferry ▸ Quay");
  await userEvent.click(make);
  expect(await screen.findByRole("heading", { name: "Forms" })).toBeVisible();
  expect(await screen.findByText("Nothing lies here")).toBeVisible();
  expect(service.asked.find((a) => a.method === "POST")?.body).toEqual({ name: "Forms", groupId: "quay" });
});

it("says to whom shelves are closed what is missing", async () => {
  service.answers["GET me"] = [200, { name: "Priya Lund", everywhere: [], anywhere: ["see"] }];
  page("/work/shelves");
  expect(await screen.findByText(/None of your grants holds read-files/)).toBeVisible();
  expect(screen.queryByRole("button", { name: "New shelf" })).toBeNull();
  expect(service.asked.some((a) => a.path === "shelves")).toBe(false);
});

it("shows what lies on one, folder by folder", async () => {
  page("/work/shelves/timetables");
  const table = await screen.findByRole("table", { name: "What lies in /" });
  const rows = within(table).getAllByRole("row").slice(1);
  expect(rows.map((r) => within(r).getByRole("rowheader").textContent)).toEqual([
    "ferries/",
    "caf\ufffd",
    "now → ferries/winter",
    "winter.pdf",
  ]);
  expect(within(table).getByRole("link", { name: "winter.pdf" })).toHaveAttribute(
    "href",
    "/api/v1/shelves/timetables/content?path=%2Fwinter.pdf",
  );
  // A name that is no text can be in no address.
  expect(within(table).queryByRole("link", { name: /caf/ })).toBeNull();
  await userEvent.click(within(table).getByRole("button", { name: "ferries/" }));
  await waitFor(() => expect(where()).toBe("/work/shelves/timetables?path=%2Fferries"));
  const way = screen.getByRole("navigation", { name: "Where you are on the shelf" });
  await userEvent.click(within(way).getByRole("button", { name: "The shelf" }));
  await waitFor(() => expect(where()).toBe("/work/shelves/timetables"));
});

it("is removed after it was said what goes with it", async () => {
  service.answers["DELETE shelves/timetables"] = [409, { detail: "A twin takes a turn with it just now." }];
  page("/work/shelves/timetables");
  await userEvent.click(await screen.findByRole("button", { name: "Remove" }));
  const dialog = await screen.findByRole("dialog", { name: "Remove Timetables?" });
  expect(dialog).toHaveTextContent("The one file on it, 2.0 KiB, will be gone for good.");
  await userEvent.click(within(dialog).getByRole("button", { name: "Remove the shelf" }));
  expect(await within(dialog).findByText("A twin takes a turn with it just now.")).toBeVisible();
  service.answers["DELETE shelves/timetables"] = [204, undefined];
  await userEvent.click(within(dialog).getByRole("button", { name: "Remove the shelf" }));
  await waitFor(() => expect(where()).toBe("/work/shelves"));
});

it("that is there no more says so", async () => {
  service.answers["GET shelves/timetables"] = [404, { detail: "There is no such shelf." }];
  page("/work/shelves/timetables");
  expect(await screen.findByText("This shelf can't be shown")).toBeVisible();
  expect(screen.getByText(/There is no such shelf/)).toBeVisible();
});
