import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { DeliveryInfo, NoticeInfo } from "../api/types";
import { type Answering, answering, show } from "../test-pages";
import { NoticesPage } from "./NoticesPage";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

let service: Answering;

const desk = {
  id: "n",
  name: "Observatory’s own desk",
  way: "hook",
  atLeast: "warning",
  groupId: "quay",
  place: "Saltmarsh Ferry/Quay",
  addresses: [],
  url: "https://desk.halyard.example/alerts",
  afterSeconds: 0,
  zone: "Europe/Paris",
  criticalAlways: true,
  tellsEnd: true,
  off: false,
  createdBy: "Ines Okafor",
  waiting: 1,
  failed: 2,
  version: 5,
} as unknown as NoticeInfo;

const sent = {
  id: "d",
  noticeId: "n",
  notice: desk.name,
  way: "hook",
  to: "https://desk.halyard.example/alerts",
  subject: "raised: Storage nearly full on creamery-files",
  state: "failed",
  attempts: 9,
  problem: "503 Service Unavailable",
  createdAt: "2026-11-28T09:02:00Z",
} as unknown as DeliveryInfo;

const asked = () => service.asked.filter((a) => a.method !== "GET");

beforeEach(() => {
  service = answering();
  service.answers["GET me"] = [200, { name: "Ines Okafor", everywhere: ["configure"], anywhere: ["configure"] }];
  service.answers["GET groups"] = [
    200,
    { items: [{ id: "quay", path: "Saltmarsh Ferry/Quay", name: "Quay", may: ["see", "configure"] }] },
  ];
  service.answers["GET teams"] = [200, { items: [] }];
  service.answers["GET notices"] = [200, { items: [desk] }];
  service.answers["GET deliveries"] = [200, { items: [sent] }];
  service.answers["GET settings/mail"] = [200, { port: 587, security: "start-tls", hasPassword: false, version: 0 }];
});
afterEach(() => vi.unstubAllGlobals());

async function more(item: string | RegExp) {
  await userEvent.click(await screen.findByRole("button", { name: `More about ${desk.name}` }));
  await userEvent.click(await screen.findByRole("menuitem", { name: item }));
}

describe("who is told of alerts", () => {
  it("is shown with how it went", async () => {
    show(<NoticesPage />);
    const row = (await screen.findByText(desk.name)).closest(".row") as HTMLElement;
    expect(row).toHaveTextContent(/web hook · by Ines Okafor/);
    expect(row).toHaveTextContent(/https:\/\/desk\.halyard\.example\/alerts/);
    expect(row).toHaveTextContent(/warnings and worse in Saltmarsh Ferry.*Quay.*at once/);
    expect(row).toHaveTextContent(/nothing sent yet.*1 on the way.*2 given up/);
  });

  it.each([
    ["delivered", null, "A trial has arrived at https://desk.halyard.example/alerts."],
    ["failed", "nobody listens there", "A trial has not arrived: nobody listens there"],
  ])("is tried, and what is %s is said", async (state, problem, words) => {
    service.answers["POST notices/n/try"] = [200, { ...sent, state, problem }];
    show(<NoticesPage />);
    await userEvent.click(await screen.findByRole("button", { name: `Try ${desk.name}` }));
    expect(await screen.findByText(words)).toBeVisible();
  });

  it("is switched off as it was read", async () => {
    service.answers["PUT notices/n"] = [200, { ...desk, off: true }];
    show(<NoticesPage />);
    await more(/tell nobody for now/);
    await waitFor(() => expect(asked()).toHaveLength(1));
    expect(asked()[0]?.headers.get("If-Match")).toBe('"5"');
    expect(asked()[0]?.body).toMatchObject({ name: desk.name, way: "hook", url: desk.url, groupId: "quay", off: true });
  });

  it("has another secret, which is shown this once", async () => {
    service.answers["POST notices/n/secret"] = [200, { notice: desk, secret: "c2V2ZW4gZ3VsbHM=" }];
    show(<NoticesPage />);
    await more(/Make another secret/);
    const dialog = await screen.findByRole("dialog", { name: `The secret of ${desk.name}` });
    expect(within(dialog).getByText("c2V2ZW4gZ3VsbHM=")).toBeVisible();
    await userEvent.keyboard("{Escape}");
    await waitFor(() => expect(screen.queryByText("c2V2ZW4gZ3VsbHM=")).toBeNull());
  });

  it("goes, once it was said what goes with it", async () => {
    service.answers["DELETE notices/n"] = [204, null];
    show(<NoticesPage />);
    await more(/^Remove/);
    const dialog = await screen.findByRole("dialog");
    expect(dialog).toHaveTextContent("what it has not sent yet goes with it");
    service.answers["GET notices"] = [200, { items: [] }];
    await userEvent.click(within(dialog).getByRole("button", { name: `Remove ${desk.name}` }));
    expect(await screen.findByText("Nobody is told of anything")).toBeVisible();
  });

  it("is not changed by whoever may not configure there", async () => {
    service.answers["GET me"] = [200, { name: "Priya Lund", everywhere: [], anywhere: ["see"] }];
    service.answers["GET groups"] = [
      200,
      { items: [{ id: "quay", path: "Saltmarsh Ferry/Quay", name: "Quay", may: ["see"] }] },
    ];
    show(<NoticesPage />);
    expect(await screen.findByText(desk.name)).toBeVisible();
    expect(screen.queryByRole("button", { name: /^(Try|More|Send again|Forget)/ })).toBeNull();
  });
});

describe("what was sent", () => {
  it("says why it did not arrive, and goes again or is forgotten", async () => {
    service.answers["POST deliveries/act"] = [200, { done: 1 }];
    show(<NoticesPage />);
    expect(await screen.findByText("503 Service Unavailable")).toBeVisible();
    await userEvent.click(screen.getByRole("button", { name: `Send again: ${sent.subject}` }));
    await userEvent.click(screen.getByRole("button", { name: `Forget: ${sent.subject}` }));
    await waitFor(() => expect(asked()).toHaveLength(2));
    expect(asked().map((a) => a.body)).toEqual([
      { act: "resend", ids: ["d"], noticeId: null },
      { act: "drop", ids: ["d"], noticeId: null },
    ]);
  });

  it("is read as it was sent", async () => {
    service.answers["GET deliveries/d"] = [200, { ...sent, body: '{"type":"example.umbrek.alert"}' }];
    show(<NoticesPage />);
    await userEvent.click(await screen.findByRole("button", { name: sent.subject }));
    expect(await screen.findByLabelText("What it says")).toHaveTextContent('"type": "example.umbrek.alert"');
  });

  it("is narrowed to what was given up", async () => {
    show(<NoticesPage />);
    await screen.findByText("503 Service Unavailable");
    service.answers["GET deliveries"] = [200, { items: [] }];
    await userEvent.click(screen.getByRole("radio", { name: "Given up" }));
    expect(await screen.findByText("Nothing was given up")).toBeVisible();
  });
});
