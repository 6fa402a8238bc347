import { act, fireEvent, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { GroupInfo } from "../api/types";
import { type Answering, answering, quayHost, show } from "../test-pages";
import { CustomersPage } from "./CustomersPage";
import { estateStore } from "./estateStore";
import { GroupsPage } from "./GroupsPage";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));

let service: Answering;

const group = (id: string, path: string, parentId: string | null, hosts = 0, may = ["configure"]) =>
  ({ id, path, parentId, name: path.split("/").at(-1), hosts, may, version: 4 }) as unknown as GroupInfo;

const all = [
  group("s", "Saltmarsh Ferry", null),
  group("q", "Saltmarsh Ferry/Quay", "s", 1),
  group("k", "Saltmarsh Ferry/Quay/Kiosks", "q"),
  group("p", "Saltmarsh Ferry/Plover", "s"),
  group("c", "Copperbeech Libraries", null),
];

beforeEach(() => {
  service = answering();
  service.answers["GET groups"] = [200, { items: all }];
  service.answers["GET customers"] = [200, { items: [] }];
  service.answers["GET me"] = [200, { name: "Ines Okafor", everywhere: ["configure"], somewhere: ["configure"] }];
  act(() => estateStore.take({ reset: true, hosts: [quayHost("quay-ticket-01")] }));
});
afterEach(() => {
  vi.unstubAllGlobals();
  act(() => estateStore.take({ reset: true, hosts: [] }));
});

const asked = (method: string, path: string) => service.asked.filter((a) => a.method === method && a.path === path);
const line = (name: RegExp | string) => screen.findByRole("treeitem", { name });
const said = () => screen.getByRole("status");

describe("the tree", () => {
  it("shows each customer with what is below, by name, and counts what is below a closed line", async () => {
    show(<GroupsPage />);
    expect(await line("Saltmarsh Ferry, 1 host")).toHaveAttribute("aria-level", "1");
    expect(screen.getAllByRole("treeitem").map((l) => l.getAttribute("aria-label")?.split(",")[0])).toEqual([
      "Copperbeech Libraries",
      "Saltmarsh Ferry",
      "Plover",
      "Quay",
      "Kiosks",
    ]);
    const ferry = await line(/^Saltmarsh/);
    expect(ferry).toHaveTextContent("1 below");
    ferry.focus();
    await userEvent.keyboard("{ArrowLeft}");
    expect(ferry).toHaveAttribute("aria-expanded", "false");
    expect(screen.queryByRole("treeitem", { name: /^Quay/ })).toBeNull();
    await userEvent.keyboard("{ArrowRight}");
    expect(ferry).toHaveAttribute("aria-expanded", "true");
  });

  it("is gone through by arrows; a group is taken by X and put by V, with the version that was seen", async () => {
    show(<GroupsPage />);
    (await line(/^Plover/)).focus();
    await userEvent.keyboard("x");
    expect(said()).toHaveTextContent("Plover is taken; go to a group and press V");
    await userEvent.keyboard("{ArrowDown}");
    expect(await line(/^Quay/)).toHaveFocus();
    service.answers["PATCH groups/p"] = [200, group("p", "Saltmarsh Ferry/Quay/Plover", "q")];
    await userEvent.keyboard("v");
    expect(await screen.findByText("Plover now stands in Saltmarsh Ferry ▸ Quay.")).toBe(said());
    const [moved] = asked("PATCH", "groups/p");
    expect(moved?.body).toEqual({ name: null, parentPath: "Saltmarsh Ferry/Quay" });
    expect(moved?.headers.get("If-Match")).toBe('"4"');
  });

  it.each([
    [/^Quay/, /^Kiosks/, "Quay can’t go below itself."],
    [/^Kiosks/, /^Quay/, "Kiosks stands there already."],
    [/^Copperbeech/, /^Quay/, "Copperbeech Libraries is a customer and stays at the top."],
  ])("has %s not put into %s, and says why", async (what, where, why) => {
    show(<GroupsPage />);
    (await line(what)).focus();
    await userEvent.keyboard("x");
    (await line(where)).focus();
    await userEvent.keyboard("v");
    expect(said()).toHaveTextContent(why);
    expect(service.asked.filter((a) => a.method === "PATCH")).toEqual([]);
    await userEvent.keyboard("{Escape}");
    expect(said()).toHaveTextContent("Nothing was moved.");
  });

  it("has a host dragged to another group, and not to where it stands", async () => {
    show(<GroupsPage />);
    await userEvent.click(within(await line(/^Quay/)).getByText("1 host ▸"));
    const host = await line("quay-ticket-01");
    const data = { dataTransfer: { setData: vi.fn() } };
    fireEvent.dragStart(host, data);
    fireEvent.dragOver(await line(/^Quay/));
    expect(await line(/^Quay/)).not.toHaveClass("target");
    fireEvent.dragOver(await line(/^Plover/));
    expect(await line(/^Plover/)).toHaveClass("target");
    service.answers["POST hosts/edits"] = [200, { preview: false, changed: 1, problems: [], changes: [] }];
    fireEvent.drop(await line(/^Plover/));
    expect(await screen.findByText("quay-ticket-01 now stands in Saltmarsh Ferry ▸ Plover.")).toBe(said());
    expect(asked("POST", "hosts/edits").map((a) => a.body)).toMatchObject([
      { hostIds: ["quay-ticket-01"], groupPath: "Saltmarsh Ferry/Plover", preview: false },
    ]);
  });

  it("tells what the service said when a group can't be moved", async () => {
    show(<GroupsPage />);
    (await line(/^Kiosks/)).focus();
    await userEvent.keyboard("x");
    (await line(/^Plover/)).focus();
    service.answers["PATCH groups/k"] = [409, { detail: "There is a group Kiosks in Plover already." }];
    await userEvent.keyboard("v");
    expect(await screen.findByText("There is a group Kiosks in Plover already.")).toBeVisible();
  });

  it("has groups made, renamed and removed, and asks where the hosts go", async () => {
    show(<GroupsPage />);
    await userEvent.click(within(await line(/^Quay/)).getByRole("button", { name: "New group in Quay" }));
    const make = await screen.findByRole("button", { name: "Make the group" });
    expect(make).toHaveAttribute("title", "Write a name first");
    service.answers["POST groups"] = [409, { detail: "There is a group Kiosks in Quay already." }];
    await userEvent.type(screen.getByRole("textbox", { name: "Name" }), "Kiosks{Enter}");
    expect(await screen.findByText("There is a group Kiosks in Quay already.")).toBeVisible();
    service.answers["POST groups"] = [201, group("t", "Saltmarsh Ferry/Quay/Tills", "q")];
    await userEvent.clear(screen.getByRole("textbox", { name: "Name" }));
    await userEvent.type(screen.getByRole("textbox", { name: "Name" }), "Tills{Enter}");
    expect(await screen.findByText("Saltmarsh Ferry ▸ Quay ▸ Tills is made.")).toBe(said());
    expect(asked("POST", "groups").at(-1)?.body).toEqual({ name: "Tills", parentPath: "Saltmarsh Ferry/Quay" });

    await userEvent.click(within(await line(/^Quay/)).getByRole("button", { name: "Rename" }));
    service.answers["PATCH groups/q"] = [200, group("q", "Saltmarsh Ferry/Pier", "s")];
    const name = await screen.findByRole("textbox", { name: "Name" });
    expect(name).toHaveValue("Quay");
    await userEvent.clear(name);
    await userEvent.type(name, "Pier{Enter}");
    expect(await screen.findByText("Quay is now called Pier.")).toBe(said());

    await userEvent.click(within(await line(/^Quay/)).getByRole("button", { name: "Remove" }));
    const dialog = await screen.findByRole("dialog", { name: "Remove Saltmarsh Ferry ▸ Quay" });
    expect(dialog).toHaveTextContent("The group with the 1 group below and its installers go.");
    const remove = within(dialog).getByRole("button", { name: "Remove Saltmarsh Ferry ▸ Quay" });
    expect(remove).toHaveAttribute("title", "Say where the hosts go first");
    await userEvent.click(within(dialog).getByRole("combobox", { name: "Where the one host in it go" }));
    const places = await screen.findAllByRole("option", { hidden: true });
    // Neither it nor what goes with it.
    expect(places.map((p) => p.textContent)).toEqual([
      "Saltmarsh Ferry",
      "Saltmarsh Ferry ▸ Plover",
      "Copperbeech Libraries",
    ]);
    await userEvent.click(screen.getByRole("option", { name: "Saltmarsh Ferry ▸ Plover", hidden: true }));
    service.answers["DELETE groups/q"] = [204, undefined];
    await userEvent.click(remove);
    expect(await screen.findByText("Saltmarsh Ferry ▸ Quay is removed.")).toBe(said());
  });

  it("says why where somebody may change nothing", async () => {
    service.answers["GET groups"] = [200, { items: [group("c", "Copperbeech Libraries", null, 0, ["see"])] }];
    service.answers["GET me"] = [200, { name: "Ade Brandt", everywhere: [], somewhere: ["see"] }];
    service.answers["GET groups/c/access"] = [
      200,
      { answers: [{ permission: "configure", sentence: "Your grants there hold no configure.", remedy: "Ask Ines." }] },
    ];
    show(<GroupsPage />);
    expect(await screen.findByText(/A new customer takes the permission to configure everything/)).toBeVisible();
    expect(screen.queryByRole("button", { name: "New customer" })).toBeNull();
    await userEvent.click(await screen.findByRole("button", { name: "Change: not allowed. Say why" }));
    expect(await screen.findByText("Your grants there hold no configure. Ask Ines.")).toBeVisible();
  });

  it("comes in as a file only after what it changes was seen, and not with a wrong line", async () => {
    const { container } = show(<GroupsPage />);
    await line(/^Quay/);
    const choose = () => container.ownerDocument.querySelector("input[type=file]") as HTMLInputElement;
    service.answers["POST estate/tree"] = [
      200,
      { lines: 3, changes: [], problems: [{ line: 2, problem: "There is no host quay-tiket-01." }] },
    ];
    await userEvent.upload(choose(), new File(["group,host\n"], "wrong.csv", { type: "text/csv" }));
    const dialog = await screen.findByRole("dialog", { name: "Import wrong.csv" });
    expect(await within(dialog).findByText(/1 of 3 lines are wrong; nothing is imported/)).toBeVisible();
    expect(dialog).toHaveTextContent("Line 2: There is no host quay-tiket-01.");
    expect(within(dialog).queryByRole("button", { name: /^Import/ })).toBeNull();
    await userEvent.keyboard("{Escape}");

    const outcome = { lines: 2, problems: [], changes: [{ line: 1, says: "quay-ticket-01 goes to Plover" }] };
    service.answers["POST estate/tree"] = [200, outcome];
    await userEvent.upload(choose(), new File(['{"groups":[]}'], "tree.json", { type: "application/json" }));
    await userEvent.click(await screen.findByRole("button", { name: "Import 2 lines of tree.json" }));
    expect(await screen.findByText("Imported.")).toBe(said());
    expect(asked("POST", "estate/tree").map((a) => [a.headers.get("Content-Type"), a.body])).toEqual([
      ["text/csv", "group,host\n"],
      ["application/json", { groups: [] }],
      ["application/json", { groups: [] }],
    ]);
  });
});

describe("a customer", () => {
  const ferry = {
    id: "s",
    name: "Saltmarsh Ferry",
    hosts: 12,
    contact: "Joost at the pier",
    address: null,
    notes: null,
    colour: null,
    emblem: null,
    version: 7,
    fields: [{ id: "b", name: "berth", kind: "choice", choices: ["north", "south"] }],
  };
  beforeEach(() => {
    service.answers["GET customers"] = [200, { items: [ferry] }];
  });
  const edit = async () => {
    show(<CustomersPage />);
    await userEvent.click(await screen.findByRole("button", { name: "Edit" }));
  };

  it("is read, and its hosts are one step away", async () => {
    show(<CustomersPage />);
    const card = await screen.findByRole("region", { name: "Saltmarsh Ferry" });
    expect(within(card).getByRole("link", { name: "12 hosts" })).toHaveAttribute(
      "href",
      "/hosts?scope=Saltmarsh%20Ferry",
    );
    expect(card).toHaveTextContent("Joost at the pier");
    expect(card).toHaveTextContent("berth");
  });

  it("is saved as it was read, and marked by a colour and an emblem", async () => {
    await edit();
    const [swatch] = within(screen.getByRole("group", { name: "Colour" })).getAllByRole("button");
    if (!swatch) throw new Error("there is no colour");
    await userEvent.click(swatch);
    expect(swatch).toHaveAttribute("aria-pressed", "true");
    await userEvent.type(screen.getByRole("textbox", { name: "Notes" }), "Low water at noon.");
    service.answers["PATCH customers/s"] = [200, { ...ferry, version: 8 }];
    await userEvent.click(screen.getByRole("button", { name: "Save for Saltmarsh Ferry" }));
    expect(await screen.findByText("Saved.")).toBeVisible();
    const [saved] = asked("PATCH", "customers/s");
    expect(saved?.headers.get("If-Match")).toBe('"7"');
    expect(saved?.body).toMatchObject({ notes: "Low water at noon.", colour: swatch.getAttribute("aria-label") });
  });

  it("that somebody else changed meanwhile keeps what was written here and takes the rest from there", async () => {
    await edit();
    await userEvent.type(screen.getByRole("textbox", { name: "Notes" }), "Mine");
    const changed = { type: "urn:umbrek:problem:changed-meanwhile", detail: "Tomasz Vail changed it meanwhile." };
    service.answers["PATCH customers/s"] = [412, changed];
    service.answers["GET customers/s"] = [200, { ...ferry, version: 9, contact: "Nadia", notes: "Theirs" }];
    await userEvent.click(screen.getByRole("button", { name: "Save for Saltmarsh Ferry" }));
    expect(await screen.findByText("Tomasz Vail changed it meanwhile.")).toBeVisible();
    expect(screen.getByRole("textbox", { name: "Contact" })).toHaveValue("Nadia");
    expect(screen.getByRole("textbox", { name: "Notes" })).toHaveValue("Mine");
    service.answers["PATCH customers/s"] = [200, { ...ferry, version: 10 }];
    await userEvent.click(screen.getByRole("button", { name: "Save for Saltmarsh Ferry" }));
    expect(await screen.findByText("Saved.")).toBeVisible();
    expect(asked("PATCH", "customers/s").at(-1)?.headers.get("If-Match")).toBe('"9"');
  });

  it("has fields of its own, which are removed only when it is said twice", async () => {
    await edit();
    const fields = screen.getByRole("region", { name: "Own fields of Saltmarsh Ferry" });
    expect(fields).toHaveTextContent("one of a list: north, south");
    expect(within(fields).getByRole("button", { name: "Add the field" })).toHaveAttribute(
      "title",
      "Give the field a name first",
    );
    await userEvent.type(within(fields).getByRole("textbox", { name: "New field" }), "deck");
    await userEvent.click(within(fields).getByRole("combobox", { name: "Holds" }));
    await userEvent.click(await screen.findByRole("option", { name: "one of a list", hidden: true }));
    await userEvent.type(within(fields).getByRole("textbox", { name: "The list" }), "upper, , car");
    service.answers["POST customers/s/fields"] = [201, { id: "d" }];
    await userEvent.click(within(fields).getByRole("button", { name: "Add the field" }));
    expect(await within(fields).findByRole("textbox", { name: "New field" })).toHaveValue("");
    expect(asked("POST", "customers/s/fields").map((a) => a.body)).toEqual([
      { name: "deck", kind: "choice", choices: ["upper", "car"] },
    ]);

    await userEvent.click(within(fields).getByRole("button", { name: "Remove berth" }));
    expect(asked("DELETE", "customers/s/fields/b")).toEqual([]);
    service.answers["DELETE customers/s/fields/b"] = [409, { detail: "A saved selection asks for berth." }];
    await userEvent.click(within(fields).getByRole("button", { name: "Remove berth with all its values" }));
    expect(await within(fields).findByText("A saved selection asks for berth.")).toBeVisible();
  });

  it("that may not be changed says so", async () => {
    service.answers["GET groups"] = [200, { items: [group("s", "Saltmarsh Ferry", null, 12, ["see"])] }];
    show(<CustomersPage />);
    expect(await screen.findByRole("button", { name: "Edit: not allowed. Say why" })).toBeVisible();
  });
});
