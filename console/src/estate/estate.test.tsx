import { MantineProvider } from "@mantine/core";
import { act, render, screen } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { describe, expect, it, vi } from "vitest";
import type { Fact, HostSummary } from "../api/types";
import { selectionOf } from "../jobs/CommandPanel";
import { customerOf, emblemOf } from "./emblem";
import { EstateStore, estateStore } from "./estateStore";
import { factText } from "./FactsPanel";
import { inScope, matches, readable, rowsOf } from "./hostList";
import { HostsPage } from "./HostsPage";
import { Presence } from "./Presence";
import { describe as describePresence } from "./presence";

const host = (label: string, groupPath: string, part: Partial<HostSummary> = {}): HostSummary => ({
  id: label,
  systemName: label,
  label,
  groupPath,
  presence: { state: "linked", reason: "none", since: "2026-11-23T12:00:00Z" },
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
  ...part,
});
const away = { state: "away", reason: "lost-contact", since: "2026-11-23T11:56:00Z" } as const;

describe("the list of hosts", () => {
  const hosts = [
    host("quay-ticket-10", "Saltmarsh Ferry/Quay"),
    host("quay-ticket-2", "Saltmarsh Ferry/Quay", { presence: away, users: ["elin.marlow"] }),
    host("orrin-desk-01", "Copperbeech Libraries/Orrin"),
  ];

  it("stands under its groups in natural order and counts who is away", () => {
    const rows = rowsOf(hosts, "", "").map((r) =>
      r.kind === "group" ? `${r.path} ${r.hosts} ${r.away}` : r.host.label,
    );
    expect(rows).toEqual([
      "Copperbeech Libraries/Orrin 1 0",
      "orrin-desk-01",
      "Saltmarsh Ferry/Quay 2 1",
      "quay-ticket-2",
      "quay-ticket-10",
    ]);
  });

  it("is narrowed by the scope and by what is typed", () => {
    expect(rowsOf(hosts, "Saltmarsh Ferry", "").filter((r) => r.kind === "host")).toHaveLength(2);
    expect(inScope(host("x", "Saltmarsh Ferrymen"), "Saltmarsh Ferry")).toBe(false);
    expect(rowsOf(hosts, "", "elin").map((r) => (r.kind === "host" ? r.host.label : ""))).toContain("quay-ticket-2");
    expect(matches(host("a", "b"), "198.51 B")).toBe(true);
    expect(matches(host("a", "b"), "a c")).toBe(false);
    expect(readable("Saltmarsh Ferry/Quay")).toBe("Saltmarsh Ferry ▸ Quay");
  });
});

describe("the estate's store", () => {
  it("takes changes and forgets on a reset", () => {
    const store = new EstateStore();
    const told = vi.fn();
    store.subscribe(told);
    store.take({ reset: true, hosts: [host("a", "x"), host("b", "x")] });
    store.take({ reset: false, hosts: [host("b", "y")] });
    expect([...store.get().hosts.values()].map((h) => `${h.label} ${h.groupPath}`)).toEqual(["a x", "b y"]);
    store.take({ reset: true, hosts: [host("c", "x")] });
    expect([...store.get().hosts.keys()]).toEqual(["c"]);
    expect(told).toHaveBeenCalledTimes(3);
  });
});

describe("presence", () => {
  it("says word, time and reason, never colour alone", () => {
    vi.useFakeTimers({ now: Date.parse("2026-11-23T12:00:00Z") });
    render(<Presence presence={away} />);
    expect(screen.getByText("away 4 min, lost contact")).toBeInTheDocument();
    vi.useRealTimers();
  });
  it("has a mark of its own for every state", () => {
    const states = ["linked", "returning", "expected", "away"] as const;
    const marks = states.map((state) => describePresence({ state, reason: "none", since: "" }).mark);
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
  it("says what to do first, then shows hosts as they come", () => {
    const page = (
      <MantineProvider>
        <MemoryRouter initialEntries={["/hosts"]}>
          <HostsPage />
        </MemoryRouter>
      </MantineProvider>
    );
    render(page);
    expect(screen.getByText("Asking the service …")).toBeInTheDocument();
    act(() => estateStore.take({ reset: true, hosts: [] }));
    expect(screen.getByText("No host has joined yet")).toBeInTheDocument();
    act(() =>
      estateStore.take({ reset: false, hosts: [host("plover-log-01", "Saltmarsh Ferry/Vessels", { presence: away })] }),
    );
    expect(screen.getByText(/in all/)).toHaveTextContent("1 in all");
  });
});
