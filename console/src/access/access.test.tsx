import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { HostSummary, Me, SecretInfo } from "../api/types";
import { type Answering, answering, show } from "../test-pages";
import { ChangeKey } from "./ChangeKey";
import { Door } from "./Door";
import { GiveRole } from "./GiveRole";
import { NewDevices } from "./NewDevices";
import { PolicyEditor } from "./PolicyEditor";
import { PolicyPanel } from "./PolicyPanel";
import { RevealSecret } from "./RevealSecret";

let service: Answering;

beforeEach(() => {
  service = answering();
});
afterEach(() => {
  vi.unstubAllGlobals();
  vi.useRealTimers();
});

const last = (method: string) => service.asked.filter((a) => a.method === method).at(-1);
const host = {
  id: "h",
  label: "quay-ticket-03",
  groupPath: "Saltmarsh Ferry/Quay",
  presence: { state: "linked" },
} as HostSummary;
const quay = { id: "g", path: host.groupPath, name: "Quay", hosts: 1, may: ["see", "administer"] };

describe("the door", () => {
  const signIn = async () => {
    await userEvent.type(await screen.findByLabelText(/^Name/), "Ines Okafor");
    await userEvent.type(screen.getByLabelText(/^Password/), "tide-lantern-orchard{Enter}");
  };
  const second = { type: "urn:umbrek:problem:second-factor-asked", detail: "The second factor is asked for." };

  it("asks for the second factor once the password is right, and remembers the device if that is wished", async () => {
    service.answers = { "GET set-up": [200, { needed: false }], "POST sign-in": [401, second] };
    show(<Door />);
    await signIn();
    const code = await screen.findByLabelText(/^Code, or a recovery code/);
    expect(screen.getByText("The password of Ines Okafor is right.", { exact: false })).toBeVisible();
    await userEvent.click(screen.getByRole("checkbox"));
    service.answers["POST sign-in"] = [401, { type: "urn:umbrek:problem:wrong-credentials", detail: "Not that one." }];
    await userEvent.type(code, "123456{Enter}");
    expect(await screen.findByRole("alert")).toHaveTextContent("Not that one.");
    expect(last("POST")?.body).toMatchObject({ name: "Ines Okafor", code: "123456", remember: true, use: "cookie" });

    // Whoever comes then begins anew, and nothing of the other is left.
    await userEvent.click(screen.getByRole("button", { name: "Somebody else signs in" }));
    service.answers["POST sign-in"] = [401, second];
    await userEvent.type(screen.getByLabelText(/^Password/), "{Enter}");
    expect(await screen.findByLabelText(/^Code, or a recovery code/)).toHaveValue("");
    expect(last("POST")?.body).toMatchObject({ code: null, remember: false });
  });

  it("says that the service does not answer", async () => {
    vi.stubGlobal("fetch", () => Promise.reject(new TypeError("no route")));
    show(<Door />);
    expect(await screen.findByRole("alert")).toHaveTextContent("The service does not answer. Check the network");
  });
});

describe("a host policy", () => {
  const wanted = { allowed: ["watch", "run"], consent: "never", notice: "none", keyFor: [] };
  const policy = {
    id: "h",
    place: host.label,
    own: { consent: "always" },
    wanted: { ...wanted, consent: "always" },
    from: { consent: host.label, allowed: "Saltmarsh Ferry" },
    side: { inForce: { ...wanted, consent: "always" }, hasAccessKey: false },
    version: 4,
    sameKeyAs: [],
  };

  it("is said part by part: what is not touched stays, what is taken back comes from above", async () => {
    service.answers = { "GET hosts/h/policy": [200, policy], "PUT hosts/h/policy": [200, policy] };
    const onClose = vi.fn();
    show(<PolicyEditor at={{ host: "h" }} onClose={onClose} />);
    const folders = await screen.findByLabelText(/^Files in/);
    await userEvent.type(folders, "/srv/till, /srv/spool");
    const said = screen.getByRole("radiogroup", { name: "A technician may at most" });
    await userEvent.click(within(said).getByRole("radio", { name: "said here" }));
    await userEvent.click(screen.getByRole("checkbox", { name: "run commands" }));
    await userEvent.click(screen.getByRole("combobox", { name: /^Screen/ }));
    await userEvent.click(screen.getByRole("option", { name: "left without", hidden: true }));
    await userEvent.click(screen.getByRole("combobox", { name: /^Consent/ }));
    await userEvent.click(screen.getAllByRole("option", { name: "as above", hidden: true })[0] as HTMLElement);
    await userEvent.click(screen.getByRole("button", { name: "Change the policy of quay-ticket-03" }));
    await waitFor(() => {
      expect(onClose).toHaveBeenCalled();
    });
    expect(last("PUT")?.body).toEqual({
      allowed: ["watch"],
      consent: null,
      fileRoots: ["/srv/till", "/srv/spool"],
      giveScreen: false,
    });
    expect(last("PUT")?.headers.get("If-Match")).toBe('"4"');
  });

  it("that another has changed meanwhile is not overwritten, and what was written stays", async () => {
    const changed = "Somebody else changed the policy of quay-ticket-03 meanwhile.";
    service.answers = {
      "GET hosts/h/policy": [200, policy],
      "PUT hosts/h/policy": [412, { type: "urn:umbrek:problem:changed", detail: changed }],
    };
    const onClose = vi.fn();
    show(<PolicyEditor at={{ host: "h" }} onClose={onClose} />);
    await userEvent.type(await screen.findByLabelText(/^Files in/), "nowhere");
    await userEvent.click(screen.getByRole("button", { name: /^Change the policy/ }));
    expect(await screen.findByRole("alert")).toHaveTextContent(changed);
    expect(screen.getByLabelText(/^Files in/)).toHaveValue("nowhere");
    expect(onClose).not.toHaveBeenCalled();
  });

  it("is shown as it is in force, with where each part comes from", async () => {
    service.answers = { "GET hosts/h/policy": [200, policy], "GET groups": [200, { items: [quay] }] };
    show(<PolicyPanel host={host} />);
    expect(await screen.findByText(/a person there is asked every time/)).toHaveTextContent("· said for this host");
    expect(screen.getByText(/see the screen, run commands/)).toHaveTextContent("· from Saltmarsh Ferry");
    expect(screen.getByText(/a computer without a screen is given one/)).not.toHaveTextContent("·");
    expect(screen.getByText(/asked for by nothing; none is set/)).toBeVisible();
    expect(screen.queryByText(/narrows/)).toBeNull();
  });

  it.each([
    [{ limit: {} }, "quay-ticket-03 itself narrows what is wanted of it"],
    [{}, "quay-ticket-03 does not keep to all that is wanted of it yet"],
    [{ problem: "limit.json can be changed by others." }, "limit.json can be changed by others."],
  ])("says what its own side makes of it", async (side, says) => {
    const narrowed = { ...policy, side: { inForce: { ...wanted, allowed: [] }, hasAccessKey: true, ...side } };
    service.answers = { "GET hosts/h/policy": [200, narrowed], "GET groups": [200, { items: [quay] }] };
    show(<PolicyPanel host={host} />);
    expect(await screen.findByText(says, { exact: false })).toBeVisible();
  });

  it("warns of a key that others have, and of one that is asked for and missing", async () => {
    const asks = { ...wanted, keyFor: ["run"] };
    service.answers = {
      "GET hosts/h/policy": [
        200,
        { ...policy, wanted: asks, side: { inForce: asks, hasAccessKey: false }, sameKeyAs: ["quay-office-02"] },
      ],
      "GET groups": [200, { items: [{ ...quay, may: ["see"] }] }],
      "GET hosts/h/access": [
        200,
        {
          answers: [{ permission: "administer", sentence: "You may not administer Quay.", remedy: "Ask Odile Marsh." }],
        },
      ],
    };
    show(<PolicyPanel host={host} />);
    expect(await screen.findByText(/run commands; none is set, so that is refused/)).toBeVisible();
    expect(screen.getByText("quay-office-02 has the same key. Give each its own: Secrets, below.")).toBeVisible();
    await userEvent.click(screen.getByRole("button", { name: /Change/ }));
    expect(await screen.findByText("You may not administer Quay. Ask Odile Marsh.")).toBeVisible();
  });
});

describe("a role", () => {
  it("is given to somebody at a place, and the button says what comes of it", async () => {
    service.answers = {
      "GET roles": [
        200,
        {
          items: [
            { name: "technician", permissions: ["see", "run"] },
            { name: "viewer", permissions: [] },
          ],
        },
      ],
      "GET groups": [200, { items: [quay, { ...quay, id: "o", path: "Brindle Moor Observatory", may: ["see"] }] }],
      "GET me": [200, { name: "Ines Okafor", everywhere: [] }],
      "POST grants": [409, { detail: "Tomasz Vail has that role there already." }],
    };
    const onClose = vi.fn();
    show(<GiveRole to={{ technician: "Tomasz Vail" }} onClose={onClose} />);
    const button = screen.getByRole("button", { name: "Give Tomasz Vail a role" });
    expect(button).toBeDisabled();
    expect(button).toHaveAttribute("title", "Choose a role and a place first");
    expect(await screen.findByText("see, run")).toBeVisible();
    await userEvent.click(screen.getByRole("combobox", { name: /^Where/ }));
    // Only where one administers, and not everything.
    await waitFor(() => {
      expect(screen.getAllByRole("option", { hidden: true }).map((o) => o.textContent)).toContain(
        "Saltmarsh Ferry ▸ Quay",
      );
    });
    expect(screen.queryByRole("option", { name: "Everything", hidden: true })).toBeNull();
    expect(screen.queryByRole("option", { name: "Brindle Moor Observatory", hidden: true })).toBeNull();
    await userEvent.click(screen.getByRole("option", { name: "Saltmarsh Ferry ▸ Quay", hidden: true }));
    await userEvent.type(screen.getByLabelText("Why"), "for the list of berths");
    await userEvent.click(screen.getByRole("button", { name: /^Make Tomasz Vail technician on/ }));
    expect(await screen.findByRole("alert")).toHaveTextContent("has that role there already");
    expect(last("POST")?.body).toEqual({
      technician: "Tomasz Vail",
      team: null,
      role: "technician",
      groupPath: host.groupPath,
      everything: false,
      endsAt: null,
      note: "for the list of berths",
    });
    expect(onClose).not.toHaveBeenCalled();
  });
});

describe("a device that is new", () => {
  const me = {
    newDevices: [{ id: "d", device: "plover", firstSeenAt: "2026-11-28T09:00:00Z", address: null }],
  } as unknown as Me;

  it("is asked about until it is known whose it is", async () => {
    service.answers = { "DELETE me/devices/d": [204, undefined], "GET me": [200, {}] };
    show(<NewDevices me={me} />);
    expect(screen.getByRole("alert")).toHaveTextContent(/plover signed in as you .* from somewhere/);
    await userEvent.click(screen.getByRole("button", { name: "Not mine: end it" }));
    expect(await screen.findByText(/It is signed out. Change your password now/)).toBeVisible();
    expect(service.asked.some((a) => a.method === "DELETE" && a.path === "me/devices/d")).toBe(true);
  });

  it("is not there where there is none", () => {
    show(<NewDevices me={{ newDevices: [] } as unknown as Me} />);
    expect(screen.queryByRole("alert")).toBeNull();
  });
});

describe("a secret", () => {
  const secret = { id: "s", kind: "logon", name: "till", place: "Saltmarsh Ferry/Quay", number: 2 } as SecretInfo;
  const versions = [
    { number: 2, counts: true, isProposed: false, createdAt: "2026-11-20T09:00:00Z", createdBy: "Ines Okafor" },
    { number: 1, counts: false, isProposed: false, createdAt: "2026-11-01T09:00:00Z", createdBy: "Odile Marsh" },
  ];

  it("is seen once, with a reason, and goes from the screen after a minute", async () => {
    service.answers = {
      "GET secrets/s": [200, { info: secret, versions }],
      "POST secrets/s/reveal": [200, { secret: "berth-three-ebb", userName: "till" }],
    };
    const onClose = vi.fn();
    show(<RevealSecret secret={secret} mayReveal onClose={onClose} />);
    await userEvent.click(await screen.findByRole("radio", { name: /number 1 since .* by Odile Marsh/ }));
    await userEvent.type(screen.getByLabelText(/^Why it has to be seen/), "The till is locked");
    vi.useFakeTimers({ shouldAdvanceTime: true });
    fireEvent.submit(screen.getByRole("button", { name: /^Show/ }).closest("form") as HTMLFormElement);
    expect(await screen.findByText("berth-three-ebb")).toBeVisible();
    expect(last("POST")?.body).toEqual({ reason: "The till is locked", number: 1 });
    await vi.advanceTimersByTimeAsync(59_000);
    expect(onClose).not.toHaveBeenCalled();
    await vi.advanceTimersByTimeAsync(2_000);
    expect(onClose).toHaveBeenCalled();
  });

  it("is not shown to who may only use it", async () => {
    service.answers = { "GET secrets/s": [200, { info: secret, versions }] };
    show(<RevealSecret secret={secret} mayReveal={false} onClose={vi.fn()} />);
    expect(await screen.findByText(/your role lacks “reveal-secrets” there/)).toBeVisible();
    expect(screen.queryByRole("button", { name: /^Show/ })).toBeNull();
  });
});

describe("an access key", () => {
  it("of one's own is typed twice alike, before anything is asked", async () => {
    show(<ChangeKey host={host} hasKey inVault={false} onClose={vi.fn()} />);
    expect(screen.getByText(/The vault has not the key that quay-ticket-03 has/)).toBeVisible();
    await userEvent.click(screen.getByRole("radio", { name: "Chosen by me" }));
    await userEvent.type(screen.getByLabelText("The key as it is now"), "harbour lamp");
    await userEvent.type(screen.getByLabelText(/^The new key/), "lantern on the slip");
    await userEvent.type(screen.getByLabelText("The same again"), "lantern on the ship");
    await userEvent.click(screen.getByRole("button", { name: "Set another key on quay-ticket-03" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("The two differ; type the new key again.");
    expect(service.asked).toEqual([]);
  });

  it.each([
    ["changed", null, "quay-ticket-03 has another access key. The vault keeps it."],
    ["failed", "it is locked for 5 minutes", "quay-ticket-03 keeps its key: it is locked for 5 minutes"],
    ["waiting", null, "Setting it on quay-ticket-03 …"],
  ])("that is made for the vault is %s", async (state, reason, says) => {
    const rotation = { info: { id: "r" }, hosts: [{ state, reason }] };
    service.answers = { "POST key-rotations": [200, rotation], "GET key-rotations/r": [200, rotation] };
    show(<ChangeKey host={host} hasKey={false} inVault={false} onClose={vi.fn()} />);
    await userEvent.click(screen.getByRole("checkbox"));
    await userEvent.click(screen.getByRole("button", { name: "Set the first key on quay-ticket-03" }));
    expect(await screen.findByText(says)).toBeVisible();
    expect(last("POST")?.body).toEqual({
      selection: '"quay-ticket-03" and in "Saltmarsh Ferry/Quay"',
      endSessions: false,
    });
  });
});
