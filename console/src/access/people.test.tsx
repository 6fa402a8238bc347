import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { type Answering, answering, choose, show } from "../test-pages";
import { PeoplePage } from "./PeoplePage";
import { RolesPage } from "./RolesPage";

let service: Answering;

const lead = { id: "ines", name: "Ines Okafor", everywhere: ["administer"], anywhere: ["administer"], canChange: [] };
const nobodys = { id: "ade", name: "Ade Brandt", everywhere: [], anywhere: ["see"], canChange: ["Ines Okafor"] };
const ines = { id: "ines", name: "Ines Okafor", teams: [], secondFactor: true };
const tomasz = { id: "tomasz", name: "Tomasz Vail", teams: ["Coast"], secondFactor: true, mail: "tomasz@example.net" };
const coast = { id: "coast", name: "Coast", members: [{ id: "tomasz", name: "Tomasz Vail" }] };
const grant = (id: string, more: object) => ({
  id,
  role: "technician",
  groupPath: "Saltmarsh Ferry/Quay",
  ended: false,
  mayChange: true,
  ...more,
});

beforeEach(() => {
  service = answering();
  service.answers["GET me"] = [200, lead];
  service.answers["GET technicians"] = [200, { items: [ines, tomasz] }];
  service.answers["GET teams"] = [200, { items: [coast] }];
  service.answers["GET grants"] = [
    200,
    {
      items: [
        grant("own", { technicianId: "tomasz", holder: "Tomasz Vail" }),
        grant("by-team", { teamId: "coast", holder: "Coast", role: "viewer", groupPath: null }),
      ],
    },
  ];
  service.answers["GET settings/sign-in"] = [200, { secondFactorRequired: false }];
});
afterEach(() => vi.unstubAllGlobals());

const asked = (method: string, path: string) => service.asked.filter((a) => a.method === method && a.path === path);
const button = (name: string) => screen.findByRole("button", { name });
const more = async (about: string, act: string) => {
  await userEvent.click(await button(`More about ${about}`));
  await userEvent.click(await screen.findByRole("menuitem", { name: act }));
};

describe("technicians", () => {
  it("each show what they hold themselves and by a team, and only their own is revoked there", async () => {
    show(<PeoplePage />);
    const revoke = await button("Revoke technician on Saltmarsh Ferry/Quay from Tomasz Vail");
    const [mine, theirs] = within(revoke.closest("ul") as HTMLElement).getAllByRole("listitem");
    expect(mine).toHaveTextContent("technician on Saltmarsh Ferry ▸ Quay");
    expect(theirs).toHaveTextContent("viewer on everything by the team Coast");
    expect(within(theirs as HTMLElement).queryByRole("button")).toBeNull();
    expect(screen.getByText("team Coast · second factor · tomasz@example.net")).toBeVisible();
    expect(screen.getByText(/^you · second factor/)).toBeVisible();

    await userEvent.click(revoke);
    const dialog = await screen.findByRole("dialog", { name: "Revoke a role of Tomasz Vail" });
    expect(dialog).toHaveTextContent("Revoked, it ends at once");
    service.answers["DELETE grants/own"] = [403, { detail: "You may not administer Saltmarsh Ferry/Quay." }];
    await userEvent.click(within(dialog).getByRole("button", { name: "Revoke technician from Tomasz Vail" }));
    expect(await within(dialog).findByText("You may not administer Saltmarsh Ferry/Quay.")).toBeVisible();
  });

  it("are added with a first password, and what is wrong with it is said where it was typed", async () => {
    show(<PeoplePage />);
    await userEvent.click(await button("New technician"));
    expect(await button("Add a technician")).toHaveAttribute("title", "Write a name and a password first");
    await userEvent.type(screen.getByLabelText("Name"), "Nadia Roth");
    await userEvent.type(screen.getByLabelText(/^First password/), "short");
    service.answers["POST technicians"] = [400, { detail: "A password takes 12 characters at least." }];
    await userEvent.click(await button("Add Nadia Roth"));
    expect(await screen.findByText("A password takes 12 characters at least.")).toBeVisible();
    expect(screen.getByLabelText("Name")).toHaveValue("Nadia Roth");
    expect(asked("POST", "technicians").at(-1)?.body).toEqual({ name: "Nadia Roth", password: "short" });
  });

  it("lose a second factor, or go, only after it was said what that means", async () => {
    show(<PeoplePage />);
    await more("Tomasz Vail", "Tomasz Vail has lost the second factor …");
    const lost = await screen.findByRole("dialog", { name: "Tomasz Vail has lost the second factor" });
    expect(lost).toHaveTextContent("Be sure that it is Tomasz Vail who asks, by another way");
    expect(asked("POST", "technicians/tomasz/reset-second-factor")).toEqual([]);
    service.answers["POST technicians/tomasz/reset-second-factor"] = [204, undefined];
    await userEvent.click(within(lost).getByRole("button", { name: /^Take away the second factor/ }));
    await vi.waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
    expect(asked("POST", "technicians/tomasz/reset-second-factor")).toHaveLength(1);

    await more("Ines Okafor", "Remove Ines Okafor …");
    const gone = await screen.findByRole("dialog", { name: "Remove Ines Okafor" });
    expect(gone).toHaveTextContent("signed out everywhere at once");
    service.answers["DELETE technicians/ines"] = [409, { detail: "Ines Okafor is the last lead." }];
    await userEvent.click(within(gone).getByRole("button", { name: "Remove Ines Okafor" }));
    expect(await within(gone).findByText("Ines Okafor is the last lead.")).toBeVisible();
  });

  it("don't take their own second factor away here", async () => {
    show(<PeoplePage />);
    await userEvent.click(await button("More about Ines Okafor"));
    expect(await screen.findByRole("menuitem", { name: "Mail address of Ines Okafor …" })).toBeVisible();
    expect(screen.queryByRole("menuitem", { name: /lost the second factor/ })).toBeNull();
  });

  it("have a mail address, one's own by another way than another's", async () => {
    show(<PeoplePage />);
    await more("Tomasz Vail", "Mail address of Tomasz Vail …");
    const field = await screen.findByRole("textbox", { name: "Mail address" });
    expect(field).toHaveValue("tomasz@example.net");
    await userEvent.clear(field);
    service.answers["PUT technicians/tomasz/mail"] = [204, undefined];
    await userEvent.click(await button("Keep this address"));
    expect(await screen.findByText("Kept.")).toBeVisible();
    expect(asked("PUT", "technicians/tomasz/mail").at(-1)?.body).toEqual({ address: "" });
    await userEvent.keyboard("{Escape}");
    await more("Ines Okafor", "Mail address of Ines Okafor …");
    await userEvent.type(await screen.findByRole("textbox", { name: "Mail address" }), "ines@example.net");
    service.answers["PUT me/mail"] = [204, undefined];
    await userEvent.click(await button("Keep this address"));
    expect(await screen.findByText("Kept.")).toBeVisible();
    expect(asked("PUT", "me/mail").at(-1)?.body).toEqual({ address: "ines@example.net" });
  });

  it("are put into teams and taken out", async () => {
    show(<PeoplePage />);
    service.answers["PUT teams/coast/members/ines"] = [204, undefined];
    await choose(await screen.findByRole("combobox", { name: "Put somebody into Coast" }), "Ines Okafor");
    await vi.waitFor(() => expect(asked("PUT", "teams/coast/members/ines")).toHaveLength(1));
    service.answers["DELETE teams/coast/members/tomasz"] = [403, { detail: "That would take your own way in." }];
    await userEvent.click(screen.getByRole("button", { name: "Take Tomasz Vail out of Coast" }));
    expect(await screen.findByText("That would take your own way in.")).toBeVisible();
  });

  it("all need a second factor once a lead says so", async () => {
    show(<PeoplePage />);
    service.answers["PUT settings/sign-in"] = [409, { detail: "Set up your own second factor first." }];
    await userEvent.click(await screen.findByRole("switch", { name: /^Everybody needs a second factor/ }));
    expect(await screen.findByText("Set up your own second factor first.")).toBeVisible();
    expect(screen.getByRole("switch")).not.toBeChecked();
    expect(asked("PUT", "settings/sign-in").at(-1)?.body).toEqual({ secondFactorRequired: true });
  });

  it("who give nothing are told who does, and are offered nothing", async () => {
    service.answers["GET me"] = [200, nobodys];
    service.answers["GET grants"] = [200, { items: [] }];
    service.answers["GET teams"] = [200, { items: [] }];
    show(<PeoplePage />);
    expect(await screen.findByText(/^You see your own grants. Ines Okafor can change them/)).toBeVisible();
    expect(screen.getByText("A lead makes them.")).toBeVisible();
    expect(screen.getByText("A second factor is everybody’s own choice here.")).toBeVisible();
    expect(screen.queryAllByRole("button", { name: /^(New|Give|More|Revoke)/ })).toEqual([]);
  });
});

describe("roles", () => {
  const night = { id: "n", name: "night watch", note: "sees and wakes", permissions: ["see", "power"], grants: 1 };
  beforeEach(() => {
    service.answers["GET roles"] = [
      200,
      {
        items: [
          { id: "v", name: "viewer", builtIn: true, permissions: ["see", "watch"], grants: 2, version: 1 },
          { ...night, builtIn: false, version: 3 },
        ],
      },
    ];
  });

  it("stand against permissions, and those that every service has stay as they are", async () => {
    show(<RolesPage />);
    const theirs = await screen.findByRole("columnheader", { name: /^night watch/ });
    const row = screen.getByRole("row", { name: /^power/ });
    expect(
      within(row)
        .getAllByRole("cell")
        .map((c) => c.textContent),
    ).toEqual(["–", "yes"]);
    expect(theirs).toHaveTextContent("sees and wakes · 1 grant");
    expect(screen.queryByRole("button", { name: "Edit the role viewer" })).toBeNull();
  });

  it("of one's own are changed for all who hold them, as they were read", async () => {
    show(<RolesPage />);
    await userEvent.click(await button("Edit the role night watch"));
    const dialog = await screen.findByRole("dialog", { name: "Change the role night watch" });
    expect(dialog).toHaveTextContent("One grant gives this role; whoever holds it has the change at once.");
    // Nobody works on what he can't see.
    expect(within(dialog).getByRole("checkbox", { name: "see" })).toBeDisabled();
    await userEvent.click(within(dialog).getByRole("checkbox", { name: "run" }));
    await userEvent.click(within(dialog).getByRole("checkbox", { name: "power" }));
    service.answers["PUT roles/n"] = [412, { detail: "Tomasz Vail changed it meanwhile." }];
    await userEvent.click(within(dialog).getByRole("button", { name: "Change night watch" }));
    expect(await within(dialog).findByText("Tomasz Vail changed it meanwhile.")).toBeVisible();
    const put = asked("PUT", "roles/n").at(-1);
    expect(put?.headers.get("If-Match")).toBe('"3"');
    expect(put?.body).toEqual({ name: "night watch", permissions: ["see", "run"], note: "sees and wakes" });
  });

  it("are made with seeing at least, and go only when no grant gives them", async () => {
    show(<RolesPage />);
    await userEvent.click(await button("New role"));
    expect(await button("Make the role")).toHaveAttribute("title", "Write a name first");
    await userEvent.type(screen.getByRole("textbox", { name: "Name" }), "hands");
    service.answers["POST roles"] = [201, { id: "h" }];
    await userEvent.click(await button("Make the role hands"));
    await vi.waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
    expect(asked("POST", "roles").at(-1)?.body).toEqual({ name: "hands", permissions: ["see"], note: null });
    await userEvent.click(await button("Remove the role night watch"));
    service.answers["DELETE roles/n"] = [409, { detail: "One grant gives it: Tomasz Vail on Quay." }];
    await userEvent.click(await button("Remove night watch"));
    expect(await screen.findByText("One grant gives it: Tomasz Vail on Quay.")).toBeVisible();
  });

  it("are not changed by who is no lead", async () => {
    service.answers["GET me"] = [200, nobodys];
    show(<RolesPage />);
    await screen.findByRole("columnheader", { name: /^night watch/ });
    expect(screen.queryAllByRole("button", { name: /role/ })).toEqual([]);
  });
});
