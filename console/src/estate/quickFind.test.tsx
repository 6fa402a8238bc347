import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { type Answering, answering, quayHost, show, Where, where } from "../test-pages";
import { QuickFind } from "./QuickFind";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

let service: Answering;
const hit = (label: string, more: object = {}, pinned = false) => ({ host: quayHost(label, more), mine: { pinned } });

const page = (at = "/") =>
  show(
    <>
      <QuickFind />
      <input aria-label="elsewhere" />
      <Where />
    </>,
    at,
  );
const field = () => screen.getByRole("combobox", { name: /^Find a host/ });

beforeEach(() => {
  service = answering();
  service.answers["GET customers"] = [200, { items: [] }];
  service.answers["GET find"] = [
    200,
    { items: [hit("quay-ticket-01", {}, true), hit("quay-ticket-02", { users: ["elin.marlow"] })] },
  ];
});
afterEach(() => vi.unstubAllGlobals());

it("is reached by a key from anywhere but a field, and opens what is chosen", async () => {
  page("/?scope=Saltmarsh+Ferry");
  await userEvent.type(screen.getByLabelText("elsewhere"), "a/b");
  expect(screen.getByLabelText("elsewhere")).toHaveValue("a/b");
  screen.getByLabelText("elsewhere").blur();
  await userEvent.keyboard("/");
  expect(field()).toHaveFocus();
  expect(await screen.findByText("Pinned and opened lately")).toBeVisible();
  expect(await screen.findAllByRole("option")).toHaveLength(2);

  await userEvent.keyboard("ticket{ArrowDown}");
  const second = (await screen.findAllByRole("option"))[1];
  expect(second).toHaveAttribute("aria-selected", "true");
  expect(second).toHaveTextContent("elin.marlow");
  expect(field()).toHaveAttribute("aria-activedescendant", second?.id);
  await userEvent.keyboard("{ArrowDown}{ArrowUp}{Enter}");
  await waitFor(() => expect(where()).toBe("/hosts/quay-ticket-02?scope=Saltmarsh+Ferry"));
  expect(field()).toHaveValue("");
  expect(screen.queryByRole("option")).toBeNull();
});

it("opens with a command or a shell, by another key or by the mouse", async () => {
  page();
  await userEvent.click(field());
  await screen.findAllByRole("option");
  await userEvent.keyboard("{Alt>}{Enter}{/Alt}");
  await waitFor(() => expect(where()).toBe("/hosts/quay-ticket-01?panel=command"));
  await userEvent.click(field());
  await screen.findAllByRole("option");
  await userEvent.keyboard("{Control>}{Enter}{/Control}");
  await waitFor(() => expect(where()).toBe("/hosts/quay-ticket-01?panel=shell"));
  await userEvent.click(field());
  await userEvent.pointer({
    keys: "[MouseLeft]",
    target: await screen.findByRole("option", { name: /quay-ticket-02/ }),
  });
  await waitFor(() => expect(where()).toBe("/hosts/quay-ticket-02"));
});

it("says when nothing is like it, and goes nowhere then", async () => {
  service.answers["GET find"] = [200, { items: [] }];
  page();
  await userEvent.type(field(), "no such");
  expect(await screen.findByText("Nothing is like “no such”")).toBeVisible();
  await userEvent.keyboard("{Enter}");
  expect(where()).toBe("/");
  await userEvent.keyboard("{Escape}");
  expect(screen.queryByText(/Nothing is like/)).toBeNull();
});
