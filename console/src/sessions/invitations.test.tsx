import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes, useLocation } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Colleague, InvitationInfo } from "../api/types";
import { AskColleague, AskedWords } from "../desktop/AskColleague";
import { type Answering, answering, quayHost, show } from "../test-pages";
import { Invited } from "./Invited";

let service: Answering;

function Where() {
  const { pathname, search } = useLocation();
  return <h1>{pathname + search}</h1>;
}
const host = quayHost("quay-ticket-03");

const invitation = (news: Partial<InvitationInfo> = {}): InvitationInfo => ({
  id: "i1",
  hostId: host.id,
  hostLabel: "quay-ticket-03",
  groupPath: "Saltmarsh Ferry/Quay",
  fromId: "ines",
  from: "Ines Okafor",
  toId: "tomasz",
  to: "Tomasz Vail",
  mayControl: true,
  note: "the till hangs",
  screen: ":1",
  state: "open",
  at: new Date().toISOString(),
  until: new Date(Date.now() + 900_000).toISOString(),
  ...news,
});

const stand = (...items: InvitationInfo[]) => (service.answers["GET invitations"] = [200, { items }]);
const signIn = (id: string) => (service.answers["GET me"] = [200, { id, name: id, newDevices: [] }]);
const asked = () =>
  service.asked.filter((a) => a.method !== "GET").map(({ method, path, body }) => [method, path, body]);

beforeEach(() => {
  service = answering();
});
afterEach(() => vi.unstubAllGlobals());

describe("being asked to a desktop", () => {
  const pages = (
    <Routes>
      <Route path="/" element={<Invited />} />
      <Route path="/hosts/:id/desktop" element={<Where />} />
    </Routes>
  );

  it("says by whom, where and why, and one click leads there", async () => {
    signIn("tomasz");
    stand(invitation());
    service.answers["POST invitations/i1/answer"] = [200, invitation({ state: "accepted" })];
    show(pages);
    expect(await screen.findByRole("alert")).toHaveTextContent(
      /Ines Okafor asks you to the desktop of quay-ticket-03.* of Saltmarsh Ferry.*the till hangs/,
    );
    await userEvent.click(screen.getByRole("button", { name: "Come and look" }));
    expect(
      await screen.findByRole("heading", { name: `/hosts/${host.id}/desktop?as=watch&screen=%3A1` }),
    ).toBeVisible();
    expect(asked()).toEqual([["POST", "invitations/i1/answer", { comes: true }]]);
  });

  it("can be put off, and is gone then", async () => {
    signIn("tomasz");
    stand(invitation());
    service.answers["POST invitations/i1/answer"] = [200, invitation({ state: "declined" })];
    show(pages);
    const not = await screen.findByRole("button", { name: "Not now, Ines Okafor" });
    stand(invitation({ state: "declined" }));
    await userEvent.click(not);
    await waitFor(() => expect(screen.queryByRole("alert")).toBeNull());
    expect(asked()).toEqual([["POST", "invitations/i1/answer", { comes: false }]]);
  });

  it("says why it can't be answered, and leads nowhere", async () => {
    signIn("tomasz");
    stand(invitation());
    service.answers["POST invitations/i1/answer"] = [404, { detail: "There is no such invitation." }];
    show(pages);
    await userEvent.click(await screen.findByRole("button", { name: "Come and look" }));
    expect(await screen.findByText("There is no such invitation.")).toBeVisible();
    expect(screen.queryByRole("heading")).toBeNull();
  });

  it("is nothing for whoever asked, and nothing that was answered", async () => {
    signIn("ines");
    stand(invitation(), invitation({ id: "i2", toId: "ines", state: "accepted" }));
    show(pages);
    await waitFor(() => expect(service.asked.map((a) => a.path)).toContain("invitations"));
    expect(screen.queryByRole("alert")).toBeNull();
  });
});

describe("asking a colleague", () => {
  const colleague = (news: Partial<Colleague> = {}): Colleague => ({
    id: "tomasz",
    name: "Tomasz Vail",
    mayControl: true,
    isHere: true,
    ...news,
  });
  const page = (there = true) => (
    <>
      <AskColleague host={host} there={there} screen=":1" inPortal={false} />
      <AskedWords host={host} />
    </>
  );

  it("shows who may come and who is here, and sends what it is about", async () => {
    signIn("ines");
    stand();
    service.answers[`GET hosts/${host.id}/colleagues`] = [
      200,
      { items: [colleague(), colleague({ id: "priya", name: "Priya Lund", isHere: false, mayControl: false })] },
    ];
    service.answers[`POST hosts/${host.id}/invitations`] = [201, invitation()];
    show(page());
    await userEvent.click(screen.getByRole("button", { name: "Ask a colleague" }));
    expect(await screen.findByText("is here, may watch and control")).toBeVisible();
    expect(screen.getByText("is not here now, may watch")).toBeVisible();
    await userEvent.type(screen.getByLabelText("What it is about"), " the till hangs ");
    stand(invitation());
    await userEvent.click(screen.getByRole("button", { name: "Ask Tomasz Vail" }));
    expect(await screen.findByText("Tomasz Vail is asked to come.")).toBeVisible();
    expect(asked()).toEqual([
      ["POST", `hosts/${host.id}/invitations`, { colleagueId: "tomasz", note: "the till hangs", screen: ":1" }],
    ]);
  });

  it("says when there is nobody, and what the service refuses", async () => {
    signIn("ines");
    stand();
    service.answers[`GET hosts/${host.id}/colleagues`] = [200, { items: [] }];
    show(page());
    await userEvent.click(screen.getByRole("button", { name: "Ask a colleague" }));
    expect(await screen.findByText(/Nobody else may look at quay-ticket-03/)).toBeVisible();
  });

  it("keeps what was written when it is refused", async () => {
    signIn("ines");
    stand();
    service.answers[`GET hosts/${host.id}/colleagues`] = [200, { items: [colleague()] }];
    service.answers[`POST hosts/${host.id}/invitations`] = [409, { detail: "You are not at quay-ticket-03." }];
    show(page());
    await userEvent.click(screen.getByRole("button", { name: "Ask a colleague" }));
    await userEvent.type(await screen.findByLabelText("What it is about"), "the till");
    await userEvent.click(screen.getByRole("button", { name: "Ask Tomasz Vail" }));
    expect(await screen.findByText("You are not at quay-ticket-03.")).toBeVisible();
    expect(screen.getByLabelText("What it is about")).toHaveValue("the till");
  });

  it("can't be done before there is a screen, and the button says why", () => {
    signIn("ines");
    stand();
    show(page(false));
    expect(screen.getByRole("button", { name: "Ask a colleague" })).toBeDisabled();
    expect(screen.getByRole("button", { name: "Ask a colleague" })).toHaveAttribute("title", "Nothing is shown yet");
  });

  it("tells the answer until it is put away", async () => {
    signIn("ines");
    stand(invitation({ state: "declined" }), invitation({ id: "i2", to: "Priya Lund", state: "accepted" }));
    service.answers["DELETE invitations/i1"] = [204, null];
    show(page());
    expect(await screen.findByText("Tomasz Vail does not come now.")).toBeVisible();
    expect(screen.getByText("Priya Lund comes.")).toBeVisible();
    stand(invitation({ id: "i2", to: "Priya Lund", state: "accepted" }));
    const [first] = screen.getAllByRole("button", { name: "Put this word away" });
    await userEvent.click(first as HTMLElement);
    await waitFor(() => expect(screen.queryByText("Tomasz Vail does not come now.")).toBeNull());
    expect(asked()).toEqual([["DELETE", "invitations/i1", undefined]]);
  });
});
