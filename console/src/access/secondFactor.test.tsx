import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import type { Me } from "../api/types";
import { type Answering, answering, show } from "../test-pages";
import { SecondFactor } from "./SecondFactor";

let service: Answering;
const me = (part: object) => ({ name: "Ines Okafor", secondFactor: false, recoveryCodes: 0, ...part }) as unknown as Me;
const press = (name: string) => userEvent.click(screen.getByRole("button", { name }));
const asked = () => service.asked.filter((a) => a.method === "POST").map((a) => [a.path, a.body]);

beforeEach(() => {
  service = answering();
  service.answers["POST me/second-factor"] = [
    200,
    { secret: "JBSWY3DPEHPK3PXP", picture: "M0 0h1v1H0z", pictureSize: 29 },
  ];
  service.answers["POST me/second-factor/confirm"] = [200, { codes: ["k7wq-x2mb", "p3vd-9hzt"] }];
});
afterEach(() => vi.unstubAllGlobals());

it("is set up with the password and a code, and shows the recovery codes once", async () => {
  show(<SecondFactor me={me({})} />);
  await press("Set one up");
  await userEvent.type(screen.getByLabelText("Your password again"), "lantern{Enter}");
  expect(await screen.findByText("JBSW Y3DP EHPK 3PXP")).toBeVisible();
  expect(screen.getByRole("img", { name: /QR code/ })).toBeVisible();
  const on = screen.getByRole("button", { name: "Ask for a code at each sign-in" });
  expect(on).toBeDisabled();
  expect(on).toHaveAttribute("title", "Type the six digits first");
  await userEvent.type(screen.getByLabelText("The six digits that it shows now"), "492039");
  await userEvent.click(on);
  expect(await screen.findByText("p3vd-9hzt")).toBeVisible();
  expect(asked()).toEqual([
    ["me/second-factor", { password: "lantern" }],
    ["me/second-factor/confirm", { code: "492039" }],
  ]);
  await press("They are written down");
  expect(screen.queryByText("p3vd-9hzt")).toBeNull();
});

it("says what is wrong and stays where one is", async () => {
  service.answers["POST me/second-factor"] = [403, { detail: "The password is wrong." }];
  show(<SecondFactor me={me({ secondFactorMissing: true })} />);
  // Where everybody has to have one, it is asked for at once.
  await userEvent.type(screen.getByLabelText("Your password again"), "other{Enter}");
  expect(await screen.findByText("The password is wrong.")).toBeVisible();
  await press("Leave it");
  expect(screen.getByRole("button", { name: "Set one up" })).toBeVisible();
});

it("is removed, and its codes are made anew, with the password alone", async () => {
  service.answers["POST me/recovery-codes"] = [200, { codes: ["new1-code"] }];
  service.answers["POST me/second-factor/remove"] = [204, undefined];
  show(<SecondFactor me={me({ secondFactor: true, recoveryCodes: 7 })} />);
  expect(screen.getByText(/7 recovery codes are left/)).toBeVisible();
  await press("New recovery codes");
  await userEvent.type(screen.getByLabelText("Your password again"), "lantern");
  await press("Make new recovery codes");
  expect(await screen.findByText("new1-code")).toBeVisible();
  await press("They are written down");
  await press("Remove the second factor");
  // Another step, another proof: what was typed for the other is gone.
  expect(screen.getByLabelText("Your password again")).toHaveValue("");
  await userEvent.type(screen.getByLabelText("Your password again"), "lantern");
  await press("Remove the second factor");
  expect(asked().at(-1)).toEqual(["me/second-factor/remove", { password: "lantern" }]);
});
