import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { type Answering, answering, choose, show } from "../test-pages";
import { VaultPage } from "./VaultPage";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

let service: Answering;

const QUAY = "Saltmarsh Ferry/Quay";
const secret = (id: string, more: object = {}) => ({
  id,
  kind: "logon",
  name: "local administrator",
  userName: "root",
  place: QUAY,
  groupId: "q",
  groupPath: QUAY,
  number: 2,
  changedAt: "2026-11-20T08:00:00Z",
  changedBy: "Ines Okafor",
  version: 6,
  ...more,
});
const key = secret("k", {
  kind: "access-key",
  name: null,
  userName: null,
  place: "quay-ticket-01",
  hostId: "quay-ticket-01",
  groupId: null,
  number: 0,
});
const rotation = { id: "r", selection: `in "${QUAY}"`, hosts: 2, changed: 1, failed: 0, waiting: 1, isOver: false };

beforeEach(() => {
  service = answering();
  const all = ["administer"];
  service.answers["GET me"] = [200, { name: "Ines Okafor", everywhere: all, anywhere: [...all, "use-secrets"] }];
  service.answers["GET groups"] = [
    200,
    { items: [{ id: "q", path: QUAY, name: "Quay", may: ["configure", "use-secrets", "reveal-secrets"] }] },
  ];
  service.answers["GET customers"] = [200, { items: [] }];
  service.answers["GET secrets"] = [200, { items: [secret("a"), key], total: 2 }];
  service.answers["GET key-rotations"] = [200, { items: [] }];
  service.answers["GET vault"] = [200, { secrets: 1, texts: 3, keyMadeAt: "2026-11-01T08:00:00Z" }];
});
afterEach(() => vi.unstubAllGlobals());

const asked = (method: string, path: string) => service.asked.filter((a) => a.method === method && a.path === path);
const button = (name: string | RegExp) => screen.findByRole("button", { name });
const closed = () => vi.waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());

describe("what the vault keeps", () => {
  it("is listed without its texts, and narrowed by any word of it", async () => {
    show(<VaultPage />);
    expect(await button("Show the logon “local administrator” of Saltmarsh Ferry/Quay")).toHaveTextContent("Show …");
    expect(screen.getByText(/on its way to the host/)).toBeVisible();
    await userEvent.type(screen.getByRole("textbox", { name: "Narrow the list" }), "TICKET");
    expect(screen.queryByText("local administrator")).toBeNull();
    expect(screen.getByRole("link", { name: "quay-ticket-01" })).toHaveAttribute("href", "/hosts/quay-ticket-01");
    await userEvent.type(screen.getByRole("textbox", { name: "Narrow the list" }), "s");
    expect(screen.getByText("Nothing here is called so")).toBeVisible();
  });

  it("says when only the newest are shown", async () => {
    service.answers["GET secrets"] = [200, { items: [secret("a")], total: 1200 }];
    show(<VaultPage />);
    expect(await screen.findByText("The newest 1 of 1200 are shown.")).toBeVisible();
  });

  it("is for those who may use it, and tells the others who can change that", async () => {
    service.answers["GET me"] = [
      200,
      { name: "Ade Brandt", everywhere: [], anywhere: ["see"], canChange: ["Ines Okafor"] },
    ];
    show(<VaultPage />);
    expect(await screen.findByText(/Ines Okafor can change that/)).toBeVisible();
  });

  it("is kept for a group, and what was typed is not lost when it is refused", async () => {
    show(<VaultPage />);
    await choose(await screen.findByRole("combobox", { name: "Keep a secret of a group" }), "Saltmarsh Ferry ▸ Quay");
    const dialog = await screen.findByRole("dialog", { name: "Keep a secret of Saltmarsh Ferry ▸ Quay" });
    await userEvent.type(within(dialog).getByRole("textbox", { name: "What it is called" }), "till");
    await userEvent.type(within(dialog).getByLabelText(/^Password/), "low-water");
    service.answers["POST secrets"] = [409, { detail: "There is a logon till of Quay already." }];
    await userEvent.click(within(dialog).getByRole("button", { name: "Keep it for Saltmarsh Ferry ▸ Quay" }));
    expect(await within(dialog).findByText("There is a logon till of Quay already.")).toBeVisible();
    expect(within(dialog).getByLabelText(/^Password/)).toHaveValue("low-water");
    expect(asked("POST", "secrets").at(-1)?.body).toEqual({
      kind: "logon",
      secret: "low-water",
      hostId: null,
      groupId: "q",
      name: "till",
      userName: null,
      note: null,
    });
  });

  it("is changed as it was read; left empty, the text stays", async () => {
    show(<VaultPage />);
    await userEvent.click(await button(/^More about the logon/));
    await userEvent.click(await screen.findByRole("menuitem", { name: "Change …" }));
    const dialog = await screen.findByRole("dialog", { name: /^Change the logon/ });
    expect(within(dialog).queryByRole("radiogroup")).toBeNull();
    await userEvent.type(within(dialog).getByRole("textbox", { name: "Note" }), "for the pier");
    service.answers["PATCH secrets/a"] = [200, {}];
    await userEvent.click(within(dialog).getByRole("button", { name: /^Change the logon/ }));
    await closed();
    const patch = asked("PATCH", "secrets/a").at(-1);
    expect(patch?.headers.get("If-Match")).toBe('"6"');
    expect(patch?.body).toEqual({ secret: null, name: "local administrator", userName: "root", note: "for the pier" });
  });

  it("is not removed by who may not, and says why instead", async () => {
    service.answers["GET groups/q/access"] = [
      200,
      {
        answers: [{ permission: "administer", sentence: "Your grants there hold no administer.", remedy: "Ask Ines." }],
      },
    ];
    show(<VaultPage />);
    await userEvent.click(await button(/^More about the logon/));
    await userEvent.click(await screen.findByRole("menuitem", { name: /Remove …$/ }));
    expect(await screen.findByText("Your grants there hold no administer. Ask Ines.")).toBeVisible();
    expect(screen.queryByRole("button", { name: /^Remove the logon/ })).toBeNull();
  });

  it("is removed after it was said that the host keeps its key", async () => {
    service.answers["GET groups"] = [
      200,
      { items: [{ id: "q", path: QUAY, name: "Quay", may: ["configure", "use-secrets", "administer"] }] },
    ];
    show(<VaultPage />);
    // To use and to see are two permissions.
    expect(await button("Show the access key of quay-ticket-01")).toHaveTextContent("History …");
    await userEvent.click(await button("More about the access key of quay-ticket-01"));
    await userEvent.click(await screen.findByRole("menuitem", { name: "Remove …" }));
    expect(await screen.findByText(/quay-ticket-01 keeps its key: nobody can prove it any more/)).toBeVisible();
    service.answers["DELETE secrets/k"] = [204, undefined];
    await userEvent.click(await button("Remove the access key of quay-ticket-01"));
    await closed();
    expect(asked("DELETE", "secrets/k")).toHaveLength(1);
  });
});

describe("other keys for many hosts", () => {
  it("are made for a selection, and what is wrong with it is said", async () => {
    show(<VaultPage />);
    const hosts = await screen.findByRole("textbox", { name: "Hosts" });
    expect(screen.getByText(/Sessions that are open there end/)).toBeVisible();
    await userEvent.type(hosts, "in Quai");
    service.answers["POST key-rotations"] = [400, { detail: "There is no group Quai." }];
    await userEvent.click(await button("Change their keys"));
    expect(await screen.findByText("There is no group Quai.")).toBeVisible();
    expect(asked("POST", "key-rotations").at(-1)?.body).toEqual({ selection: "in Quai", endSessions: true });
  });

  it("show which hosts have theirs and which wait, and can be ended", async () => {
    service.answers["GET key-rotations"] = [
      200,
      { items: [{ ...rotation, createdBy: "Ines Okafor", createdAt: "2026-11-20T08:00:00Z" }] },
    ];
    service.answers["GET key-rotations/r"] = [
      200,
      {
        info: rotation,
        hosts: [
          { hostId: "quay-ticket-01", label: "quay-ticket-01", state: "changed" },
          { hostId: "quay-ticket-02", label: "quay-ticket-02", state: "waiting", reason: "it is away" },
        ],
      },
    ];
    show(<VaultPage />);
    expect(await button(/1 of 2 · 1 waiting$/)).toHaveAttribute("aria-pressed", "true");
    const its = await screen.findByRole("region", { name: "Its hosts" });
    expect(
      within(its)
        .getAllByRole("listitem")
        .map((l) => l.textContent),
    ).toEqual(["quay-ticket-01 has another key", "quay-ticket-02 waits: it is away"]);
    service.answers["POST key-rotations/r/cancel"] = [204, undefined];
    service.answers["GET key-rotations/r"] = [200, { info: { ...rotation, isOver: true, waiting: 0 }, hosts: [] }];
    await userEvent.click(within(its).getByRole("button", { name: "Change no more" }));
    await vi.waitFor(() => expect(screen.queryByRole("button", { name: "Change no more" })).toBeNull());
  });
});

describe("the vault itself", () => {
  it("is given another key only after it was said what that does", async () => {
    show(<VaultPage />);
    expect(await screen.findByText(/^1 secret, 3 texts with their histories/)).toBeVisible();
    await userEvent.click(await button("Another vault key …"));
    expect(asked("POST", "vault/rotate-key")).toEqual([]);
    service.answers["POST vault/rotate-key"] = [204, undefined];
    await userEvent.click(await button("Encrypt the vault with another key"));
    await closed();
    expect(asked("POST", "vault/rotate-key")).toHaveLength(1);
  });

  it("is saved under a passphrase that was typed twice alike", async () => {
    const names: string[] = [];
    vi.stubGlobal("URL", Object.assign(URL, { createObjectURL: () => "blob:x", revokeObjectURL: () => undefined }));
    const click = vi.spyOn(HTMLAnchorElement.prototype, "click").mockImplementation(function (this: HTMLAnchorElement) {
      names.push(this.download);
    });
    show(<VaultPage />);
    await userEvent.click(await button("Back up …"));
    await userEvent.type(await screen.findByLabelText(/^Passphrase/), "tide lantern orchard");
    await userEvent.type(screen.getByLabelText("The same again"), "tide lantern orchid");
    await userEvent.click(await button("Save the backup"));
    expect(await screen.findByText("The two passphrases differ; type it again.")).toBeVisible();
    expect(asked("POST", "vault/backup")).toEqual([]);
    await userEvent.clear(screen.getByLabelText("The same again"));
    await userEvent.type(screen.getByLabelText("The same again"), "tide lantern orchard");
    service.answers["POST vault/backup"] = [200, { version: 1 }];
    await userEvent.click(await button("Save the backup"));
    await closed();
    expect(names).toEqual([expect.stringMatching(/^vault-\d{4}-\d\d-\d\d\.json$/)]);
    click.mockRestore();
  });

  it("is put back from a file, and says what was there and what has no place", async () => {
    show(<VaultPage />);
    await userEvent.click(await button("Restore …"));
    const dialog = await screen.findByRole("dialog", { name: "Restore a backup of the vault" });
    await userEvent.click(within(dialog).getByRole("button", { name: "Restore it" }));
    expect(await within(dialog).findByText("Choose the file of the backup first.")).toBeVisible();
    const file = document.querySelector("input[type=file]") as HTMLInputElement;
    await userEvent.upload(file, new File(["no backup"], "notes.txt"));
    await userEvent.click(within(dialog).getByRole("button", { name: "Restore it" }));
    expect(await within(dialog).findByText("notes.txt is no backup of a vault. Nothing was restored.")).toBeVisible();
    await userEvent.upload(file, new File(['{"version":1}'], "vault.json"));
    await userEvent.type(within(dialog).getByLabelText(/^Passphrase/), "tide lantern orchard");
    service.answers["POST vault/restore"] = [200, { restored: 4, kept: 2, leftOut: ["till of Plover"] }];
    await userEvent.click(within(dialog).getByRole("button", { name: "Restore it" }));
    expect(await within(dialog).findByRole("status")).toHaveTextContent(
      "Restored 4; 2 that are there stayed as they are.",
    );
    expect(within(dialog).getByText("No place here for: till of Plover")).toBeVisible();
    expect(asked("POST", "vault/restore").at(-1)?.body).toEqual({
      passphrase: "tide lantern orchard",
      backup: { version: 1 },
    });
  });

  it("is for a lead alone", async () => {
    service.answers["GET me"] = [200, { name: "Tomasz Vail", everywhere: [], anywhere: ["use-secrets"] }];
    show(<VaultPage />);
    await button(/^More about the logon/);
    expect(screen.queryByText("The vault itself")).toBeNull();
    expect(screen.queryByText("Other access keys for many hosts")).toBeNull();
  });
});
