import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { type Answering, answering, show } from "../test-pages";
import { LetInPage } from "./LetInPage";

let service: Answering;

beforeEach(() => {
  service = answering();
  service.answers["GET me"] = [200, { name: "Ines Okafor", everywhere: [], anywhere: [] }];
  service.answers["GET sign-in/pairings/BCDF-GHJK"] = [
    200,
    { code: "BCDF-GHJK", device: "halyard-desk-04", address: "198.51.100.9", askedAt: "2026-11-28T09:02:00Z" },
  ];
});
afterEach(() => vi.unstubAllGlobals());

it("asks for the code, says who waits and as whom it comes, and lets it in", async () => {
  service.answers["POST sign-in/pairings/BCDF-GHJK/allow"] = [204, undefined];
  show(<LetInPage />, "/account/client");
  await userEvent.type(screen.getByLabelText("Code"), " BCDF-GHJK {Enter}");
  const allow = await screen.findByRole("button", { name: "Let halyard-desk-04 in as Ines Okafor" });
  expect(screen.getByLabelText("Code")).toHaveTextContent("BCDF-GHJK");
  expect(screen.getByText("198.51.100.9")).toBeVisible();
  expect(screen.getByText(/only if you have begun this yourself/)).toBeVisible();
  expect(service.asked.some((a) => a.method === "POST")).toBe(false);
  await userEvent.click(allow);
  expect(await screen.findByRole("status")).toHaveTextContent("halyard-desk-04 is signed in as Ines Okafor");
});

it("refuses it, and says so when that does not arrive", async () => {
  service.answers["POST sign-in/pairings/BCDF-GHJK/refuse"] = [410, { detail: "It waits no longer." }];
  show(<LetInPage />, "/account/client?code=BCDF-GHJK");
  const refuse = await screen.findByRole("button", { name: "Refuse it" });
  await userEvent.click(refuse);
  expect(await screen.findByText("It waits no longer.")).toBeVisible();
  service.answers["POST sign-in/pairings/BCDF-GHJK/refuse"] = [204, undefined];
  await userEvent.click(refuse);
  expect(await screen.findByRole("status")).toHaveTextContent("halyard-desk-04 is refused.");
});

it("says that a code is none, and takes another", async () => {
  service.answers["GET sign-in/pairings/XXXX-XXXX"] = [404, { detail: "No client waits with this code." }];
  show(<LetInPage />, "/account/client?code=XXXX-XXXX");
  expect(await screen.findByText("No client waits with this code.")).toBeVisible();
  await userEvent.click(screen.getByRole("link", { name: "Type another code" }));
  expect(await screen.findByRole("button", { name: "Find the client" })).toBeVisible();
});
