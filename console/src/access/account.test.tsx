import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { type Answering, answering, show } from "../test-pages";
import { AccountPage } from "./AccountPage";

let service: Answering;

const me = {
  id: "ines",
  name: "Ines Okafor",
  everywhere: [],
  anywhere: [],
  grants: [{ id: "g", role: "lead", groupPath: null, ended: false }],
  canChange: ["Tomasz Vail"],
  secondFactor: false,
  secondFactorMissing: false,
  recoveryCodes: 0,
};
const signIn = (id: string, more: object = {}) => ({
  id,
  kind: "console",
  device: id,
  address: "198.51.100.7",
  here: false,
  createdAt: "2026-11-20T08:00:00Z",
  lastSeenAt: "2026-11-28T08:00:00Z",
  expiresAt: "2026-12-20T08:00:00Z",
  ...more,
});

beforeEach(() => {
  service = answering();
  service.answers["GET me"] = [200, me];
  service.answers["GET technicians"] = [200, { items: [] }];
  service.answers["GET me/sign-ins"] = [200, { items: [signIn("this browser", { here: true })] }];
  service.answers["GET me/devices"] = [200, { items: [] }];
  service.answers["GET me/passkeys"] = [200, { items: [] }];
  service.answers["GET sign-in/ways"] = [200, {}];
});
afterEach(() => vi.unstubAllGlobals());

const asked = (method: string, path: string) => service.asked.filter((a) => a.method === method && a.path === path);
const panel = async (name: string | RegExp) => within(await screen.findByRole("region", { name }));

it("says what one may do, and who can change it where that is nothing", async () => {
  const { unmount } = show(<AccountPage />);
  expect((await panel("What you may do")).getByRole("listitem")).toHaveTextContent("lead on everything");
  unmount();
  service.answers["GET me"] = [200, { ...me, grants: [] }];
  show(<AccountPage />);
  expect(await screen.findByText("Nothing yet. Tomasz Vail can give you a role.")).toBeVisible();
});

describe("where one is signed in", () => {
  it("is ended one by one, but not here, and tokens stand elsewhere", async () => {
    service.answers["GET me/sign-ins"] = [
      200,
      {
        items: [
          signIn("this browser", { here: true }),
          signIn("a laptop"),
          signIn("backup", { kind: "script", permissions: ["see", "run"] }),
        ],
      },
    ];
    show(<AccountPage />);
    const signIns = await panel("Where you are signed in");
    expect(await signIns.findByText("this one")).toBeVisible();
    expect(signIns.queryByText("backup")).toBeNull();
    expect(signIns.queryByRole("button", { name: "End the sign-in of this browser" })).toBeNull();
    service.answers["DELETE me/sign-ins/a%20laptop"] = [404, { detail: "It has ended already." }];
    await userEvent.click(signIns.getByRole("button", { name: "End the sign-in of a laptop" }));
    expect(await signIns.findByText("It has ended already.")).toBeVisible();

    const tokens = await panel("Tokens for scripts");
    expect(tokens.getByText("see, run")).toBeVisible();
    service.answers["DELETE me/sign-ins/backup"] = [503, { detail: "The database does not answer." }];
    await userEvent.click(tokens.getByRole("button", { name: "End the token backup" }));
    expect(await tokens.findByText("The database does not answer.")).toBeVisible();
  });

  it("is ended everywhere else at once, where there is another", async () => {
    const { unmount } = show(<AccountPage />);
    await (await panel("Where you are signed in")).findByText("this one");
    expect(screen.queryByRole("button", { name: "End all others, tokens too" })).toBeNull();
    unmount();
    service.answers["GET me/sign-ins"] = [200, { items: [signIn("a laptop")] }];
    service.answers["DELETE me/sign-ins"] = [200, 1];
    show(<AccountPage />);
    await userEvent.click(await screen.findByRole("button", { name: "End all others, tokens too" }));
    await vi.waitFor(() => expect(asked("DELETE", "me/sign-ins")).toHaveLength(1));
  });
});

describe("a token", () => {
  it("is good for what is ticked, until the end of a day, and is shown once", async () => {
    show(<AccountPage />);
    const tokens = await panel("Tokens for scripts");
    await userEvent.click(tokens.getByRole("button", { name: "New token" }));
    const make = tokens.getByRole("button", { name: "Make the token" });
    expect(make).toHaveAttribute("title", "Say what it is for and until when, and type your password first");
    await userEvent.type(tokens.getByRole("textbox", { name: "What it is for" }), "nightly backup");
    await userEvent.type(tokens.getByLabelText(/^Until the end of/), "2026-12-24");
    await userEvent.type(tokens.getByLabelText("Your password again"), "tide-lantern-orchard");
    await userEvent.click(tokens.getByRole("checkbox", { name: "run" }));
    service.answers["POST me/tokens"] = [400, { detail: "You may not run commands anywhere." }];
    await userEvent.click(make);
    expect(await tokens.findByText("You may not run commands anywhere.")).toBeVisible();
    service.answers["POST me/tokens"] = [201, { token: "umb_abc" }];
    await userEvent.click(make);
    expect(await tokens.findByText(/^This is shown once/)).toBeVisible();
    expect(tokens.getByText("umb_abc")).toBeVisible();
    expect(asked("POST", "me/tokens").at(-1)?.body).toEqual({
      name: "nightly backup",
      permissions: ["see", "run"],
      endsAt: new Date("2026-12-24T23:59:59").toISOString(),
      password: "tide-lantern-orchard",
    });
  });
});

describe("who one is at the provider", () => {
  it("is linked with the password, and only then is one sent there", async () => {
    service.answers["GET sign-in/ways"] = [200, { singleSignOn: "Halyard & Wick" }];
    service.answers["GET me/linked-logins"] = [200, { items: [] }];
    show(<AccountPage />);
    const linked = await panel("Sign-on with Halyard & Wick");
    await userEvent.click(await linked.findByRole("button", { name: "Link me" }));
    const go = linked.getByRole("button", { name: "Go to Halyard & Wick" });
    expect(go).toHaveAttribute("title", "Type your password first");
    await userEvent.type(linked.getByLabelText("Your password again"), "tide-lantern");
    service.answers["POST me/linked-logins"] = [403, { detail: "The password is wrong." }];
    await userEvent.click(go);
    expect(await linked.findByText("The password is wrong.")).toBeVisible();
    expect(asked("POST", "me/linked-logins").at(-1)?.body).toEqual({ password: "tide-lantern" });
    await userEvent.click(linked.getByRole("button", { name: "Cancel" }));
    expect(linked.queryByLabelText("Your password again")).toBeNull();
  });
});

describe("the second factor", () => {
  it("is set up with the password, the app's secret and a code; its recovery codes are shown once", async () => {
    service.answers["GET me"] = [200, { ...me, secondFactorMissing: true }];
    show(<AccountPage />);
    expect(await screen.findByRole("alert")).toHaveTextContent("Everybody here needs a second factor");
    const factor = await panel("Second factor");
    await userEvent.type(factor.getByLabelText("Your password again"), "tide-lantern-orchard");
    service.answers["POST me/second-factor"] = [
      200,
      { secret: "JBSWY3DPEHPK3PXP", picture: "M0 0h1", pictureSize: 29 },
    ];
    await userEvent.click(factor.getByRole("button", { name: "Go on" }));
    expect(await factor.findByText("JBSW Y3DP EHPK 3PXP")).toBeVisible();
    const ask = factor.getByRole("button", { name: "Ask for a code at each sign-in" });
    expect(ask).toHaveAttribute("title", "Type the six digits first");
    await userEvent.type(factor.getByRole("textbox", { name: "The six digits that it shows now" }), "000000");
    service.answers["POST me/second-factor/confirm"] = [400, { detail: "That code is wrong or of another time." }];
    await userEvent.click(ask);
    expect(await factor.findByText("That code is wrong or of another time.")).toBeVisible();
    service.answers["POST me/second-factor/confirm"] = [200, { codes: ["aaaa-bbbb", "cccc-dddd"] }];
    service.answers["GET me"] = [200, { ...me, secondFactor: true, recoveryCodes: 2 }];
    await userEvent.click(ask);
    expect(await factor.findByText("aaaa-bbbb")).toBeVisible();
    await userEvent.click(factor.getByRole("button", { name: "They are written down" }));
    expect(factor.queryByText("aaaa-bbbb")).toBeNull();
    expect(await factor.findByText(/2 recovery codes are left/)).toBeVisible();
  });

  it("goes, or is given other codes, only with the password again", async () => {
    service.answers["GET me"] = [200, { ...me, secondFactor: true, recoveryCodes: 1 }];
    show(<AccountPage />);
    const factor = await panel("Second factor");
    await userEvent.click(await factor.findByRole("button", { name: "Remove the second factor" }));
    service.answers["POST me/second-factor/remove"] = [403, { detail: "The password is wrong." }];
    await userEvent.type(factor.getByLabelText("Your password again"), "wrong");
    await userEvent.click(factor.getByRole("button", { name: "Remove the second factor" }));
    expect(await factor.findByText("The password is wrong.")).toBeVisible();
    await userEvent.click(factor.getByRole("button", { name: "Leave it" }));
    await userEvent.click(factor.getByRole("button", { name: "New recovery codes" }));
    // What was typed for the other is not kept for this.
    expect(factor.getByLabelText("Your password again")).toHaveValue("");
    service.answers["POST me/recovery-codes"] = [200, { codes: ["eeee-ffff"] }];
    await userEvent.type(factor.getByLabelText("Your password again"), "tide-lantern-orchard");
    await userEvent.click(factor.getByRole("button", { name: "Make new recovery codes" }));
    expect(await factor.findByText("eeee-ffff")).toBeVisible();
  });
});

it("changes a password, and says how many sign-ins ended with the old one", async () => {
  show(<AccountPage />);
  const password = await panel("Password");
  await userEvent.click(password.getByRole("button", { name: "Change" }));
  await userEvent.type(password.getByLabelText("Your password"), "tide-lantern-orchard");
  await userEvent.type(password.getByLabelText(/^The new one/), "short");
  service.answers["POST me/password"] = [400, { detail: "A password takes 12 characters at least." }];
  await userEvent.click(password.getByRole("button", { name: "Change it, and end all other sign-ins" }));
  expect(await password.findByText("A password takes 12 characters at least.")).toBeVisible();
  service.answers["POST me/password"] = [200, 1];
  await userEvent.click(password.getByRole("button", { name: "Change it, and end all other sign-ins" }));
  expect(await password.findByRole("status")).toHaveTextContent("changed; one other sign-in has ended.");
  expect(password.queryByLabelText("Your password")).toBeNull();
});

it("shows devices and passkeys, and forgets them", async () => {
  service.answers["GET me/devices"] = [
    200,
    {
      items: [
        {
          id: "d",
          device: "Firefox on Debian",
          firstSeenAt: "2026-11-01T08:00:00Z",
          lastSeenAt: "2026-11-28T08:00:00Z",
          isNew: true,
        },
      ],
    },
  ];
  service.answers["GET me/passkeys"] = [
    200,
    { items: [{ id: "p", name: "phone", createdAt: "2026-11-01T08:00:00Z", isBackedUp: true }] },
  ];
  show(<AccountPage />);
  const devices = await panel("Devices");
  service.answers["DELETE me/devices/d"] = [204, undefined];
  await userEvent.click(await devices.findByRole("button", { name: "Forget Firefox on Debian" }));
  await vi.waitFor(() => expect(asked("DELETE", "me/devices/d")).toHaveLength(1));
  const passkeys = await panel("Passkeys");
  expect(passkeys.getByText(/kept by your other devices too/)).toBeVisible();
  expect(passkeys.getByText("This browser knows no passkeys, or the page came over plain http.")).toBeVisible();
  service.answers["DELETE me/passkeys/p"] = [409, { detail: "It is your only way in." }];
  await userEvent.click(passkeys.getByRole("button", { name: "Remove the passkey phone" }));
  expect(await passkeys.findByText("It is your only way in.")).toBeVisible();
});
