import { newQueryClient } from "../api/queries";
import { MantineProvider } from "@mantine/core";
import { QueryClientProvider } from "@tanstack/react-query";
import { act, render, screen, waitFor } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { describe, expect, it, vi } from "vitest";
import type { CustomerInfo, Fact, HostSummary } from "../api/types";
import { selectionOf } from "./hostList";
import { customerOf, emblemOf } from "./emblem";
import { EstateStore, estateStore } from "./estateStore";
import { factText } from "./FactsPanel";
import { hostsOf, inScope, isSelection, matches, readable, rowsOf, type Grouping, type ListWish } from "./hostList";
import { columnsOf } from "./columns";
import { toCsv, toJson } from "./exportHosts";
import { linesOf, treeOf, whyNot } from "./groupTree";
import { HostsPage } from "./HostsPage";
import { naturally } from "./naturalOrder";
import { merge } from "./OrderPanel";
import { sharedFields } from "./ownFields";
import { Presence } from "./Presence";
import { describe as describePresence } from "./presence";
import { NameOrder } from "./nameOrder";
import { steady } from "./useHostRows";
import { take as takeSelected } from "./useSelected";

const host = (label: string, groupPath: string, part: Partial<HostSummary> = {}): HostSummary => ({
  id: label,
  systemName: label,
  label,
  groupPath,
  presence: { state: "linked", reason: "none", since: "2026-11-23T12:00:00Z", losses: 0 },
  lastSeenAt: "2026-11-23T12:00:00Z",
  os: null,
  agentVersion: "0.1.0",
  address: "198.51.100.7",
  users: [],
  sampledAt: null,
  processorPercent: 12.4,
  memoryUsedPercent: null,
  storageUsedPercent: 93.2,
  storageMount: "/",
  tags: [],
  enrolledAt: "2026-11-01T12:00:00Z",
  alerts: 0,
  ...part,
});
const wish = (part: Partial<ListWish> = {}): ListWish => ({
  scope: "",
  words: "",
  grouping: "group",
  sorting: { by: "label", down: false },
  ...part,
});
const inOrder = (hosts: HostSummary[], part: Partial<ListWish> = {}) => {
  const names = new NameOrder();
  names.put(hosts);
  return hostsOf(new Map(hosts.map((h) => [h.id, h])), names.ids, wish(part));
};
const rows = (hosts: HostSummary[], grouping: Grouping) =>
  rowsOf(
    new Map(hosts.map((h) => [h.id, h])),
    hosts.map((h) => h.id),
    grouping,
  );
const labels = (hosts: HostSummary[], part: Partial<ListWish>) => inOrder(hosts, part).map((h) => h.label);
const away = { state: "away", reason: "lost-contact", since: "2026-11-23T11:56:00Z", losses: 0 } as const;

describe("the list of hosts", () => {
  const hosts = [
    host("quay-ticket-10", "Saltmarsh Ferry/Quay"),
    host("quay-ticket-2", "Saltmarsh Ferry/Quay", { presence: away, users: ["elin.marlow"] }),
    host("orrin-desk-01", "Copperbeech Libraries/Orrin"),
  ];

  it("stands under its groups in natural order", () => {
    const lines = rows(inOrder(hosts), "group").map((r) => (r.kind === "group" ? `${r.path} ${r.ids.length}` : r.id));
    expect(lines).toEqual([
      "Copperbeech Libraries/Orrin 1",
      "orrin-desk-01",
      "Saltmarsh Ferry/Quay 2",
      "quay-ticket-2",
      "quay-ticket-10",
    ]);
  });

  it("orders names as people do: case and accents do not count, numbers go by their size", () => {
    const names = ["Ticket-10", "ticket-2", "ticket-002b", "Émile", "emil", "ticket-2a", "a"];
    expect(names.sort(naturally)).toEqual(["a", "emil", "Émile", "ticket-2", "ticket-2a", "ticket-002b", "Ticket-10"]);
    expect(naturally("desk-7", "DESK-007")).toBe(0);
  });

  it("is narrowed by the scope and by what is typed", () => {
    expect(labels(hosts, { scope: "Saltmarsh Ferry" })).toHaveLength(2);
    expect(inScope(host("x", "Saltmarsh Ferrymen"), "Saltmarsh Ferry")).toBe(false);
    expect(labels(hosts, { words: "elin" })).toEqual(["quay-ticket-2"]);
    expect(labels(hosts, { selected: new Set(["quay-ticket-10"]) })).toEqual(["quay-ticket-10"]);
    expect(matches(host("a", "b"), "198.51 B")).toBe(true);
    expect(matches(host("a", "b"), "a c")).toBe(false);
    expect(readable("Saltmarsh Ferry/Quay")).toBe("Saltmarsh Ferry ▸ Quay");
  });
});

describe("the order of hosts", () => {
  const hosts = [
    host("b", "Saltmarsh Ferry", { processorPercent: 4, retiredAt: null }),
    host("a", "Saltmarsh Ferry", { processorPercent: 90 }),
    host("c", "Copperbeech Libraries", { processorPercent: null }),
    host("d", "Copperbeech Libraries", { retiredAt: "2026-11-20T12:00:00Z" }),
  ];

  it("goes by any column, both ways, and leaves retired ones aside until a selection names them", () => {
    expect(labels(hosts, { sorting: { by: "processor", down: true } })).toEqual(["a", "b", "c"]);
    expect(labels(hosts, { sorting: { by: "label", down: true } })).toEqual(["c", "b", "a"]);
    expect(labels(hosts, { selected: new Set(["d"]) })).toEqual(["d"]);
    expect(rows(hosts, "customer").filter((r) => r.kind === "group")).toHaveLength(2);
    expect(rows(hosts, "none")).toHaveLength(4);
  });

  it("does not move under the pointer: what goes leaves, what comes goes to the end", () => {
    expect(steady(["a", "b", "c"], ["c", "new", "a"])).toEqual(["a", "c", "new"]);
  });

  it("can be exported as it is shown", () => {
    const csv = toCsv([host('desk "left", 2', "Saltmarsh Ferry/Quay")], columnsOf(["group", "storage", "none"]), 0);
    expect(csv).toBe(
      'Host,System name,Group,Storage\r\n"desk ""left"", 2","desk ""left"", 2",Saltmarsh Ferry ▸ Quay,93 %\r\n',
    );
    expect(JSON.parse(toJson(hosts))).toHaveLength(4);
  });

  it("tells words from selections", () => {
    for (const text of ["quay*", "in Quay", "is away", "not x", "a and b", "memory.free < 1 GiB", "saved x", "all"])
      expect(isSelection(text), text).toBe(true);
    for (const text of ["", "quay ticket", "elin", "allotment", "island", "android"])
      expect(isSelection(text), text).toBe(false);
  });

  it("follows what the service says of a selection", () => {
    const first = takeSelected(undefined, { reset: true, added: ["a", "b"], removed: [] });
    expect([...takeSelected(first, { reset: false, added: ["c"], removed: ["a"] })]).toEqual(["b", "c"]);
    expect([...takeSelected(first, { reset: true, added: [], removed: [] })]).toEqual([]);
  });
});

describe("two people at one host", () => {
  const read = { label: "a", tags: ["x"], notes: "n", links: [], own: {} };

  it("keep what only one of them touched, and are told what both did", () => {
    const mine = { ...read, notes: "mine", tags: ["x", "y"] };
    const theirs = { ...read, notes: "theirs", label: "b" };
    expect(merge(mine, read, theirs)).toEqual({
      draft: { label: "b", tags: ["x", "y"], notes: "mine", links: [], own: {} },
      both: ["notes"],
    });
    expect(merge(mine, read, { ...read, notes: "mine" }).both).toEqual([]);
  });
});

describe("the tree of groups", () => {
  const group = (id: string, parentId: string | null, path: string, hosts = 0) => ({
    id,
    parentId,
    path,
    name: path.split("/").at(-1) ?? "",
    hosts,
    may: [],
    version: 1,
  });
  const groups = [
    group("q", "s", "Saltmarsh Ferry/Quay", 2),
    group("s", null, "Saltmarsh Ferry", 1),
    group("o", "q", "Saltmarsh Ferry/Quay/Office", 3),
    group("c", null, "Copperbeech Libraries"),
  ];

  it("counts what is below and leaves out what is closed", () => {
    const tree = treeOf(groups);
    expect(linesOf(tree, new Set()).map((n) => `${n.depth} ${n.group.name} ${n.hosts}`)).toEqual([
      "0 Copperbeech Libraries 0",
      "0 Saltmarsh Ferry 6",
      "1 Quay 5",
      "2 Office 3",
    ]);
    expect(linesOf(tree, new Set(["s"]))).toHaveLength(2);
  });

  it("says why something can't be moved", () => {
    const [quay, ferry, office, libraries] = groups;
    if (!quay || !ferry || !office || !libraries) throw new Error("groups");
    expect(whyNot(quay, office)).toMatch(/below itself/);
    expect(whyNot(quay, ferry)).toMatch(/already/);
    expect(whyNot(ferry, libraries)).toMatch(/stays at the top/);
    expect(whyNot(office, libraries)).toBeUndefined();
  });
});

describe("the estate's store", () => {
  it("takes changes and forgets on a reset", () => {
    vi.useFakeTimers();
    const store = new EstateStore();
    const told = vi.fn();
    store.subscribe(told);
    store.take({ reset: true, hosts: [host("a", "x"), host("b", "x")] });
    store.take({ reset: false, hosts: [host("b", "y")] });
    expect([...store.get().hosts.values()].map((h) => `${h.label} ${h.groupPath}`)).toEqual(["a x", "b y"]);
    store.take({ reset: false, hosts: [host("a", "y")] });
    // The first at once, what follows quickly together, a new beginning at once.
    expect(told).toHaveBeenCalledTimes(1);
    vi.advanceTimersByTime(150);
    expect(told).toHaveBeenCalledTimes(2);
    store.take({ reset: true, hosts: [host("c", "x")] });
    expect([...store.get().hosts.keys()]).toEqual(["c"]);
    expect(told).toHaveBeenCalledTimes(3);
    const { shape, standing } = store.get();
    store.take({ reset: false, hosts: [host("c", "x", { processorPercent: 50 })] });
    expect(store.get()).toMatchObject({ shape, standing, byName: ["c"] });
    store.take({ reset: false, hosts: [host("c", "x", { presence: away })] });
    expect(store.get().shape).toBe(shape);
    expect(store.get().standing).not.toBe(standing);
    store.take({ reset: false, hosts: [], gone: ["c"] });
    expect(store.get().shape).not.toBe(shape);
    expect(store.get().hosts.size).toBe(0);
    vi.useRealTimers();
  });
});

describe("presence", () => {
  it("says word, time and reason, never colour alone", () => {
    vi.useFakeTimers({ now: Date.parse("2026-11-23T12:00:00Z") });
    render(<Presence presence={away} />);
    expect(screen.getByText("away 4 min, lost contact")).toBeInTheDocument();
    vi.useRealTimers();
  });
  it("says of a link that is lost again and again that it is unsteady, with a mark of its own", () => {
    expect(describePresence({ ...away, losses: 4 })).toEqual({
      mark: "broken",
      word: "unsteady, away",
      reason: "lost 4 times in 15 min",
    });
    expect(describePresence({ state: "linked", reason: "none", since: "", losses: 4 }).word).toBe("unsteady, linked");
    // Who said goodbye is away for a reason of its own.
    expect(describePresence({ ...away, reason: "host-shutting-down", losses: 4 }).mark).toBe("open");
  });
  it("has a mark of its own for every state", () => {
    const states = ["linked", "returning", "expected", "away"] as const;
    const marks = states.map((state) => describePresence({ state, reason: "none", since: "", losses: 0 }).mark);
    expect(new Set(marks).size).toBe(4);
  });
});

describe("emblems", () => {
  it("are always the same for a customer", () => {
    expect(emblemOf("Saltmarsh Ferry")).toEqual(emblemOf("Saltmarsh Ferry"));
    expect(customerOf("Saltmarsh Ferry/Quay")).toBe("Saltmarsh Ferry");
  });
  it("tell the four customers of the demo apart", () => {
    const customers = ["Saltmarsh Ferry", "Brindle Moor Observatory", "Copperbeech Libraries", "Tarn Valley Creamery"];
    expect(new Set(customers.map((c) => emblemOf(c).pattern)).size).toBeGreaterThan(2);
    expect(new Set(customers.map((c) => emblemOf(c).field)).size).toBe(4);
  });
});

describe("facts", () => {
  const fact = (name: string, value: unknown) => factText({ name, value, learntAt: "" } as Fact);
  it("read well", () => {
    expect(fact("memory.total", 17179869184)).toBe("16.0 GiB");
    expect(fact("storage.disks", ["/ ext4 1073741824"])).toBe("/ ext4 1.0 GiB");
    expect(fact("users.logged-in", [])).toBe("none");
    expect(fact("os.name", "Debian")).toBe("Debian");
  });
});

describe("a command's selection", () => {
  it("names exactly the host that is in sight, whatever it is called", () => {
    expect(selectionOf(host('desk "left"', "A/B"))).toBe('"desk \\"left\\"" and in "A/B"');
  });
});

describe("the hosts page", () => {
  it("says what to do first, then shows hosts as they come", async () => {
    const page = (
      <MantineProvider>
        <QueryClientProvider client={newQueryClient()}>
          <MemoryRouter initialEntries={["/hosts"]}>
            <HostsPage />
          </MemoryRouter>
        </QueryClientProvider>
      </MantineProvider>
    );
    render(page);
    expect(screen.getByText("Asking the service …")).toBeInTheDocument();
    act(() => estateStore.take({ reset: true, hosts: [] }));
    expect(await screen.findByText("No host has joined yet")).toBeInTheDocument();
    act(() =>
      estateStore.take({ reset: false, hosts: [host("plover-log-01", "Saltmarsh Ferry/Vessels", { presence: away })] }),
    );
    await waitFor(() => expect(screen.getByText(/in all/)).toHaveTextContent("1 in all"));
  });
});

describe("own fields of several customers", () => {
  const customer = (name: string, fields: [string, "text" | "choice", string[]?][]) =>
    ({
      name,
      fields: fields.map(([f, kind, choices]) => ({ id: `${name} ${f}`, name: f, kind, choices: choices ?? [] })),
    }) as CustomerInfo;
  const customers = [
    customer("Saltmarsh Ferry", [
      ["Deck", "choice", ["upper", "lower"]],
      ["Asset", "text"],
    ]),
    customer("Copperbeech Libraries", [
      ["asset", "text"],
      ["Deck", "text"],
    ]),
    customer("Tarn Valley Creamery", [["Deck", "choice", ["lower", "cellar"]]]),
  ];

  it("are those that all of them have, of the same kind, with the choices that each knows", () => {
    const names = (...of: string[]) =>
      sharedFields(customers, new Set(of)).map((f) => [f.name, ...f.choices].join(" "));
    expect(names("Saltmarsh Ferry")).toEqual(["Deck upper lower", "Asset"]);
    expect(names("Saltmarsh Ferry", "Copperbeech Libraries")).toEqual(["Asset"]);
    expect(names("Saltmarsh Ferry", "Tarn Valley Creamery")).toEqual(["Deck lower"]);
    expect(names("Saltmarsh Ferry", "Unknown")).toEqual([]);
  });
});
