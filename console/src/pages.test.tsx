import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { Door } from "./access/Door";
import type { HostSummary } from "./api/types";
import { InstallerPage } from "./enrolment/InstallerPage";
import { JoinPage } from "./enrolment/JoinPage";
import { OfferPage } from "./enrolment/OfferPage";
import { FactsPanel } from "./estate/FactsPanel";
import { ScopeLine } from "./estate/ScopeLine";
import { type Answering, answering, show } from "./test-pages";

let service: Answering;

beforeEach(() => {
  service = answering();
});
afterEach(() => vi.unstubAllGlobals());

describe("the door", () => {
  it("asks a new service's first technician for the code and says what the service says", async () => {
    service.answers = {
      "GET set-up": [200, { needed: true }],
      "POST set-up": [403, { type: "urn:umbrek:problem:wrong-credentials", detail: "The set-up code is wrong." }],
    };
    show(<Door />);
    await userEvent.type(await screen.findByLabelText(/Set-up code/), "ABCD");
    await userEvent.type(screen.getByLabelText(/^Name/), "Ines Okafor");
    await userEvent.type(screen.getByLabelText(/^Password/), "tide-lantern-orchard");
    await userEvent.click(screen.getByRole("button", { name: "Make the first technician" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("The set-up code is wrong.");
    expect(service.asked.at(-1)?.body).toEqual({ code: "ABCD", name: "Ines Okafor", password: "tide-lantern-orchard" });
  });

  it("signs in with a cookie otherwise", async () => {
    service.answers = {
      "GET set-up": [200, { needed: false }],
      "POST sign-in": [200, { technician: { id: "1", name: "Ines Okafor", teams: [] } }],
    };
    show(<Door />);
    await userEvent.type(await screen.findByLabelText(/^Name/), "Ines Okafor");
    await userEvent.type(screen.getByLabelText(/^Password/), "tide-lantern-orchard{Enter}");
    await waitFor(() => expect(service.asked.some((a) => a.path === "sign-in")).toBe(true));
    expect(service.asked.find((a) => a.path === "sign-in")?.body).toMatchObject({ name: "Ines Okafor", use: "cookie" });
    expect(screen.queryByLabelText(/Set-up code/)).toBeNull();
  });
});

const policy = { allowed: ["run", "watch"], consent: "never" };
const installer = {
  id: "i1",
  groupPath: "Saltmarsh Ferry/Quay",
  note: "new kiosks",
  state: "valid",
  policy,
  accessKey: "none",
  approvalNeeded: true,
  createdAt: "2026-11-23T12:00:00Z",
  createdBy: "Ines Okafor",
  expiresAt: "2026-11-30T12:00:00Z",
  maxUses: 3,
  uses: 1,
  waiting: 1,
};
const waits = {
  id: "e1",
  installerId: "i1",
  groupPath: "Saltmarsh Ferry/Quay",
  at: "2026-11-23T12:00:00Z",
  address: "198.51.100.7",
  systemName: "quay-ticket-05",
  label: "quay-ticket-05",
  agentVersion: "0.1.0",
  state: "waiting",
  why: "approval-needed",
};

describe("the page to join", () => {
  const groups = { items: [{ id: "g", path: "Saltmarsh Ferry/Quay", name: "Quay", hosts: 0 }], total: 1 };

  it("lists installers with what is left of them, and what waits", async () => {
    service.answers = {
      "GET installers": [
        200,
        { items: [installer, { ...installer, id: "i2", state: "used-up", uses: 3, waiting: 0 }] },
      ],
      "GET enrolments": [200, { items: [waits], total: 1 }],
    };
    show(<JoinPage />);
    await userEvent.click(await screen.findByRole("button", { name: "Show one ended installer" }));
    expect(screen.getByText("used up")).toBeInTheDocument();
    expect(screen.getByText("3 of 3")).toBeInTheDocument();
    expect(await screen.findByText("One computer waits to be let in")).toBeInTheDocument();
    expect(screen.getByText("198.51.100.7")).toBeInTheDocument();
  });

  it("offers the entry of the same machine, and decides about marked ones only", async () => {
    const known = {
      hostId: "h1",
      label: "quay-old",
      groupPath: "Saltmarsh Ferry/Quay",
      linked: false,
      lastSeenAt: waits.at,
    };
    service.answers = {
      "GET installers": [200, { items: [], total: 0 }],
      "GET enrolments": [
        200,
        { items: [waits, { ...waits, id: "e2", label: "quay-again", sameAs: known, why: "same-machine" }] },
      ],
      "POST enrolments/decide": [200, []],
    };
    show(<JoinPage />);
    await userEvent.click(await screen.findByRole("button", { name: "Take over quay-old" }));
    await waitFor(() => expect(service.asked.some((a) => a.path === "enrolments/decide")).toBe(true));
    expect(service.asked.find((a) => a.path === "enrolments/decide")?.body).toEqual({
      ids: ["e2"],
      decision: "take-over",
    });
    await userEvent.click(screen.getByLabelText("Mark quay-ticket-05"));
    await userEvent.click(screen.getByRole("button", { name: "Turn 1 marked away" }));
    await waitFor(() => expect(service.asked.filter((a) => a.path === "enrolments/decide")).toHaveLength(2));
    expect(service.asked.filter((a) => a.path === "enrolments/decide")[1]?.body).toEqual({
      ids: ["e1"],
      decision: "reject",
    });
  });

  it("makes an installer with all that it carries, once a group is chosen", async () => {
    service.answers = {
      "GET installers": [200, { items: [], total: 0 }],
      "GET enrolments": [200, { items: [], total: 0 }],
      "GET groups": [200, groups],
      "POST installers": [
        201,
        { info: installer, token: "t", link: "l", command: "c", silentCommand: "s", enrolments: [] },
      ],
    };
    show(<JoinPage />, "/join");
    expect(await screen.findByText("No installer yet")).toBeInTheDocument();
    await userEvent.click(screen.getByRole("button", { name: "New installer" }));
    expect(screen.getByRole("button", { name: "Make an installer" })).toHaveAttribute("title", "Choose a group first");
    await userEvent.click(await screen.findByPlaceholderText("Choose"));
    await userEvent.click(await screen.findByRole("option", { name: /Quay/, hidden: true }));
    await userEvent.click(screen.getByLabelText("use mouse and keyboard"));
    await userEvent.click(screen.getByLabelText("Each computer waits until a person lets it in"));
    await userEvent.click(screen.getByRole("button", { name: /^Make an installer for/ }));
    await waitFor(() => expect(service.asked.some((a) => a.method === "POST" && a.path === "installers")).toBe(true));
    expect(service.asked.find((a) => a.method === "POST" && a.path === "installers")?.body).toMatchObject({
      groupPath: "Saltmarsh Ferry/Quay",
      approvalNeeded: true,
      policy: {
        allowed: ["watch", "shell", "run", "read-files", "write-files", "power", "software"],
        consent: "never",
      },
    });
  });
});

describe("the page of an installer", () => {
  const detail = {
    info: installer,
    token: "t.k",
    link: "https://x/get/t",
    command: "curl x",
    silentCommand: "agent x",
  };
  const page = (
    <Routes>
      <Route path="/join/:id" element={<InstallerPage />} />
    </Routes>
  );

  it("hands it out, says who used it, and revokes it", async () => {
    service.answers = {
      "GET installers/i1": [
        200,
        { ...detail, enrolments: [{ ...waits, state: "refused", detail: "It was used up." }] },
      ],
      "POST installers/i1/revoke": [200, { ...installer, state: "revoked" }],
    };
    show(page, "/join/i1");
    expect(await screen.findByText("https://x/get/t")).toBeInTheDocument();
    expect(screen.getByText("run commands, see the screen")).toBeInTheDocument();
    expect(screen.getByText("It was used up.")).toBeInTheDocument();
    await userEvent.click(screen.getByRole("button", { name: "Revoke" }));
    await waitFor(() => expect(service.asked.some((a) => a.path === "installers/i1/revoke")).toBe(true));
  });

  it("shows nothing to hand out once it lets nobody in", async () => {
    service.answers = {
      "GET installers/i1": [200, { ...detail, info: { ...installer, state: "expired" }, enrolments: [] }],
    };
    show(page, "/join/i1");
    expect(await screen.findByText(/lets nobody in any more: it is expired/)).toBeInTheDocument();
    expect(screen.queryByText("https://x/get/t")).toBeNull();
  });
});

describe("the page behind a link", () => {
  const offer = {
    askedBy: "Ines Okafor",
    customer: "Saltmarsh Ferry",
    groupPath: "Saltmarsh Ferry/Quay",
    policy,
    accessKey: "none",
    approvalNeeded: false,
    command: "curl … | sudo sh",
    agentVersion: "0.1.0",
    agentBytes: 11_000_000,
    agentSha256: "ab",
  };
  const page = (
    <Routes>
      <Route path="/get/:secret" element={<OfferPage />} />
    </Routes>
  );

  it("tells the person there who asks, what is allowed and how", async () => {
    service.answers = { "GET offers/s3": [200, offer] };
    show(page, "/get/s3");
    expect(await screen.findByText("Saltmarsh Ferry")).toBeInTheDocument();
    expect(screen.getByText("see the screen")).toBeInTheDocument();
    expect(screen.queryByText("restart and shut down")).toBeNull();
    expect(screen.getByRole("link", { name: /^Download/ })).toHaveAttribute("href", "/get/s3/package");
  });

  it("gives nothing away for a link that ended or is not known", async () => {
    service.answers = { "GET offers/s3": [200, { ...offer, refusal: "The installer was revoked." }] };
    const { unmount } = show(page, "/get/s3");
    expect(await screen.findByRole("alert")).toHaveTextContent("revoked");
    expect(screen.queryByRole("link")).toBeNull();
    unmount();
    service.answers = { "GET offers/s4": [404, { detail: "This service does not know the link." }] };
    show(page, "/get/s4");
    expect(await screen.findByRole("alert")).toHaveTextContent("does not know the link");
  });
});

describe("the facts of a host", () => {
  const detail = (state: "linked" | "away") =>
    ({
      summary: { id: "h1", label: "plover-log-01", presence: { state, reason: "none", since: "2026-11-23T12:00:00Z" } },
      enrolledAt: "2026-11-01T12:00:00Z",
      facts: [{ name: "os.kernel", value: "6.1.0-28-amd64", learntAt: "2026-11-23T12:00:00Z" }],
      version: 1,
    }) as unknown as Parameters<typeof FactsPanel>[0]["host"];

  it("can be asked again of a linked host, and an answer that fails is told", async () => {
    service.answers = { "POST hosts/h1/refresh": [409, { detail: "The host did not answer within 15 s." }] };
    show(<FactsPanel host={detail("linked")} />);
    expect(screen.getByText("6.1.0-28-amd64")).toBeInTheDocument();
    await userEvent.click(screen.getByRole("button", { name: "Ask again now" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("did not answer");
  });

  it("are the last known ones of a host that is away, and it says so", () => {
    show(<FactsPanel host={detail("away")} />);
    expect(screen.getByRole("button", { name: "Away: last known facts" })).toBeDisabled();
    expect(screen.getByRole("button")).toHaveAttribute("title", expect.stringContaining("plover-log-01 is away"));
  });
});

describe("the scope line", () => {
  const host = (label: string) =>
    ({
      id: label,
      systemName: label,
      label,
      groupPath: "Saltmarsh Ferry/Quay",
      users: [],
      presence: { state: "linked" },
    }) as unknown as HostSummary;
  const page = (
    <Routes>
      <Route
        path="*"
        element={
          <ScopeLine
            me={{
              id: "1",
              name: "Ines Okafor",
              grants: [],
              anywhere: [],
              everywhere: [],
              canChange: [],
              secondFactor: false,
              secondFactorMissing: false,
              recoveryCodes: 0,
              newDevices: [],
            }}
          />
        }
      />
      <Route path="/hosts/:id" element={<p>bench</p>} />
    </Routes>
  );

  it("keeps every letter that is typed and opens the first find with Enter", async () => {
    const hit = (label: string) => ({ host: host(label), mine: { pinned: false }, score: 1 });
    service.answers = {
      "GET customers": [200, { items: [] }],
      "GET find": [200, { items: [hit("plover-log-01"), hit("plover-log-02")] }],
    };
    show(page, "/hosts");
    await userEvent.type(screen.getByRole("combobox"), "plover");
    expect(await screen.findAllByRole("option")).toHaveLength(2);
    expect(screen.getByRole("option", { name: /plover-log-01/ })).toHaveAttribute("aria-selected", "true");
    await userEvent.keyboard("{ArrowDown}");
    expect(screen.getByRole("option", { name: /plover-log-02/ })).toHaveAttribute("aria-selected", "true");
    await userEvent.keyboard("{Enter}");
    expect(await screen.findByText("bench")).toBeInTheDocument();
  });

  it("names the scope from the customer down and goes back to everything", async () => {
    show(page, "/hosts?scope=Saltmarsh%20Ferry%2FQuay");
    expect(screen.getByRole("button", { name: "Saltmarsh Ferry" })).toBeInTheDocument();
    expect(screen.getByRole("link", { name: "Work" })).toHaveAttribute(
      "href",
      expect.stringContaining("scope=Saltmarsh"),
    );
    await userEvent.click(screen.getByRole("button", { name: "Everything" }));
    expect(screen.queryByRole("button", { name: "Quay" })).toBeNull();
  });

  it("takes the slash for the way to the find", async () => {
    show(page, "/hosts");
    await userEvent.keyboard("/");
    expect(screen.getByRole("combobox")).toHaveFocus();
    await userEvent.keyboard("quay");
    expect(screen.getByRole("combobox")).toHaveValue("quay");
    await userEvent.keyboard("{Escape}");
    expect(screen.getByRole("combobox")).toHaveValue("");
  });
});
