import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { CheckInfo, GroupInfo, MaintenanceInfo, NoticeInfo } from "../api/types";
import { type Answering, answering, show } from "../test-pages";
import { AlertPage } from "./AlertPage";
import { OwnCheckEditor, SettingEditor } from "./CheckEditor";
import { MaintenanceEditor } from "./MaintenanceEditor";
import { NoticeEditor } from "./NoticeEditor";

vi.mock("../api/live", () => ({ follow: vi.fn(() => () => undefined) }));
vi.mock("./MetricGraph", () => ({ MetricGraph: () => <p>the graph</p> }));

let service: Answering;

beforeEach(() => {
  service = answering();
  service.answers["GET teams"] = [200, { items: [{ id: "night", name: "Night desk" }] }];
});
afterEach(() => {
  vi.unstubAllGlobals();
});

const last = (method: string) => service.asked.filter((a) => a.method === method).at(-1);
const groups = [
  { id: "g", path: "Saltmarsh Ferry", name: "Saltmarsh Ferry", hosts: 2, may: ["administer"] },
  { id: "q", path: "Saltmarsh Ferry/Quay", name: "Quay", hosts: 1, may: ["administer"] },
] as unknown as GroupInfo[];
const choose = async (label: RegExp | string, option: string) => {
  await userEvent.click(screen.getByRole("combobox", { name: label }));
  await userEvent.click(screen.getByRole("option", { name: option, hidden: true }));
};
const fill = async (label: RegExp | string, text: string) => {
  const field = screen.getByLabelText(label);
  await userEvent.clear(field);
  if (text) await userEvent.type(field, text);
};

const check = {
  key: "storage-full",
  id: "c1",
  version: 3,
  name: "Storage is nearly full",
  subsystem: "storage",
  severity: "warning",
  when: "storage.used > 90 %",
  until: "storage.used < 85 %",
  holdSeconds: 60,
  place: "Saltmarsh Ferry/Quay",
  settings: [
    {
      groupId: "g",
      hostId: null,
      off: true,
      severity: null,
      when: null,
      until: null,
      holdSeconds: null,
      note: "Old disks",
    },
  ],
} as unknown as CheckInfo;

describe("a check of one's own", () => {
  it("is tried on what was before it counts, and says so", async () => {
    const times = Array.from({ length: 10 }, (_, i) => ({
      hostId: `h${i}`,
      label: `quay-ticket-${i}`,
      raisedAt: "2026-11-27T09:00:00Z",
      clearedAt: i === 0 ? null : "2026-11-27T10:00:00Z",
    }));
    service.answers["POST checks/trial"] = [
      200,
      { alerts: 10, hosts: 10, hostsLooked: 40, times, note: "One has no figures." },
    ];
    service.answers["POST checks"] = [200, {}];
    const onClose = vi.fn();
    show(<OwnCheckEditor groups={groups} onClose={onClose} />);
    await fill("What it is called", "Spool is long");
    await choose("For", "Saltmarsh Ferry ▸ Quay");
    await fill(/^Raised when/, "processes > 300");
    await userEvent.click(screen.getByRole("button", { name: "Try it on the last two days" }));
    expect(await screen.findByRole("status")).toHaveTextContent(
      "It would have raised 10 alerts on 10 of 40 hosts. One has no figures.",
    );
    expect(screen.getByText("and 2 more")).toBeVisible();
    expect(screen.getByText(/until now/)).toBeVisible();
    expect(last("POST")?.body).toMatchObject({
      when: "processes > 300",
      until: null,
      on: 'in "Saltmarsh Ferry/Quay"',
      hours: 48,
    });
    await userEvent.click(screen.getByRole("radio", { name: "critical" }));
    await userEvent.click(screen.getByRole("button", { name: "Let it count" }));
    await waitFor(() => {
      expect(onClose).toHaveBeenCalled();
    });
    expect(last("POST")?.body).toEqual({
      name: "Spool is long",
      subsystem: "services",
      severity: "critical",
      when: "processes > 300",
      until: null,
      holdSeconds: 60,
      follows: null,
      fix: null,
      groupId: "q",
      probe: null,
    });
  });

  it("that can't be read is told, and what was written stays", async () => {
    service.answers["PUT checks/c1"] = [
      422,
      { detail: "'storage.usd' is nothing that is known; there is storage.used." },
    ];
    const onClose = vi.fn();
    show(<OwnCheckEditor check={check} groups={groups} onClose={onClose} />);
    await fill(/^Raised when/, "storage.usd > 90 %");
    await userEvent.click(screen.getByRole("button", { name: "Change Storage is nearly full" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("there is storage.used.");
    expect(screen.getByLabelText(/^Raised when/)).toHaveValue("storage.usd > 90 %");
    expect(last("PUT")?.headers.get("If-Match")).toBe('"3"');
    expect(onClose).not.toHaveBeenCalled();
  });
});

describe("what is said of a check in one place", () => {
  const open = (mayEverywhere: boolean, of = check) => {
    service.answers["POST checks/settings"] = [200, {}];
    const onClose = vi.fn();
    show(<SettingEditor check={of} groups={groups} mayEverywhere={mayEverywhere} onClose={onClose} />);
    return onClose;
  };
  const done = (onClose: ReturnType<typeof vi.fn>) => waitFor(() => expect(onClose).toHaveBeenCalled());

  it("begins with what is said there, and can be taken back", async () => {
    const onClose = open(false);
    expect(screen.queryByRole("button", { name: /^Say it for/ })).toBeNull();
    await choose("Where", "Saltmarsh Ferry");
    expect(screen.getByRole("radio", { name: "it does not count" })).toBeChecked();
    expect(screen.getByLabelText("Why")).toHaveValue("Old disks");
    await userEvent.click(screen.getByRole("button", { name: "Say nothing for Saltmarsh Ferry any more" }));
    await done(onClose);
    expect(last("POST")?.body).toEqual({ check: "storage-full", groupId: "g" });
  });

  it("may be another rule, which begins with the one above", async () => {
    const onClose = open(true);
    await choose("Where", "Saltmarsh Ferry ▸ Quay");
    expect(screen.queryByRole("button", { name: /any more$/ })).toBeNull();
    await userEvent.click(screen.getByRole("radio", { name: "a rule of its own" }));
    expect(screen.getByLabelText(/^Raised when/)).toHaveValue("storage.used > 90 %");
    await fill(/^Raised when/, "storage.used > 97 %");
    await fill(/^Over when/, "");
    await userEvent.click(screen.getByRole("button", { name: "Say it for Saltmarsh Ferry/Quay" }));
    await done(onClose);
    expect(last("POST")?.body).toEqual({
      check: "storage-full",
      groupId: "q",
      off: null,
      severity: null,
      when: "storage.used > 97 %",
      until: null,
      holdSeconds: 60,
      note: null,
    });
  });

  it("that goes by a probe is another hold time, and no other rule", async () => {
    const onClose = open(true, { ...check, probe: { kind: "service" }, settings: [] } as unknown as CheckInfo);
    expect(screen.getByText(/what that looks at is the same everywhere/)).toBeVisible();
    await userEvent.click(screen.getByRole("radio", { name: "a hold time of its own" }));
    await userEvent.click(screen.getByRole("button", { name: "Say it for everything" }));
    await done(onClose);
    expect(last("POST")?.body).toMatchObject({ groupId: null, when: null, until: null, holdSeconds: 60 });
  });
});

describe("a maintenance window", () => {
  it("of one host begins now, and makes no noise", async () => {
    service.answers["POST maintenance"] = [200, {}];
    const onClose = vi.fn();
    show(
      <MaintenanceEditor
        host={{ id: "h", label: "quay-ticket-03" }}
        groups={groups}
        mayEverywhere={false}
        onClose={onClose}
      />,
    );
    expect(screen.queryByLabelText("For hosts of")).toBeNull();
    await fill("What is done in it", "Another disk");
    await userEvent.click(screen.getByRole("button", { name: "Make no noise then" }));
    await waitFor(() => {
      expect(onClose).toHaveBeenCalled();
    });
    expect(last("POST")?.body).toMatchObject({
      name: "Another disk",
      hostId: "h",
      groupId: null,
      starts: null,
      minutes: 120,
      rule: null,
    });
  });

  it("comes again by a rule that is chosen or written", async () => {
    service.answers["POST maintenance"] = [422, { detail: "FREQ=SOMETIMES is no rule of RFC 5545." }];
    show(<MaintenanceEditor groups={groups} mayEverywhere onClose={vi.fn()} />);
    await fill("What is done in it", "Updates");
    await choose("For hosts of", "Saltmarsh Ferry ▸ Quay");
    await userEvent.click(screen.getByRole("radio", { name: "at a time" }));
    expect(screen.getByLabelText<HTMLInputElement>("Begins").value).toMatch(/^\d{4}-\d\d-\d\dT\d\d:00$/);
    await choose("Comes again", "every second week");
    await choose("Comes again", "by a rule of its own");
    expect(screen.getByLabelText(/^Rule/)).toHaveValue("FREQ=WEEKLY;INTERVAL=2");
    await fill(/^Rule/, "FREQ=SOMETIMES");
    await userEvent.click(screen.getByRole("button", { name: "Make no noise then" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("no rule of RFC 5545");
    expect(last("POST")?.body).toMatchObject({ groupId: "q", rule: "FREQ=SOMETIMES" });
    // What begins now does so once.
    await userEvent.click(screen.getByRole("radio", { name: "now" }));
    await userEvent.click(screen.getByRole("button", { name: "Make no noise then" }));
    await waitFor(() => {
      expect(last("POST")?.body).toMatchObject({ starts: null, rule: null });
    });
  });

  it("is changed as it is", async () => {
    service.answers["PUT maintenance/m"] = [200, {}];
    const before = {
      id: "m",
      version: 2,
      name: "Updates",
      groupId: "q",
      place: "Saltmarsh Ferry/Quay",
      starts: "2026-11-29T02:00",
      zone: "Europe/Oslo",
      minutes: 90,
      rule: "FREQ=MONTHLY;BYDAY=1SU",
    };
    const onClose = vi.fn();
    show(
      <MaintenanceEditor
        window={before as unknown as MaintenanceInfo}
        groups={groups}
        mayEverywhere={false}
        onClose={onClose}
      />,
    );
    expect(screen.getByLabelText(/^Rule/)).toHaveValue("FREQ=MONTHLY;BYDAY=1SU");
    await userEvent.click(screen.getByRole("button", { name: "Change Updates" }));
    await waitFor(() => {
      expect(onClose).toHaveBeenCalled();
    });
    expect(last("PUT")?.body).toMatchObject({
      name: "Updates",
      groupId: "q",
      starts: "2026-11-29T02:00",
      zone: "Europe/Oslo",
      minutes: 90,
    });
    expect(last("PUT")?.headers.get("If-Match")).toBe('"2"');
  });
});

describe("a notice", () => {
  it("goes to a team and to addresses, in a summary at times of the day", async () => {
    service.answers["POST notices"] = [200, { notice: {} }];
    const onDone = vi.fn();
    show(<NoticeEditor groups={groups} mayEverywhere onDone={onDone} onClose={vi.fn()} />);
    await fill("What it is called", "Night desk");
    await waitFor(async () => choose(/^To the team/, "Night desk"));
    await fill("And to these addresses", "duty@halyard.example; second@halyard.example");
    await userEvent.click(screen.getByRole("radio", { name: "in a daily summary" }));
    await fill("At these times of day", "07:30, 19:00");
    await userEvent.click(screen.getByRole("button", { name: "Let it tell" }));
    await waitFor(() => {
      expect(onDone).toHaveBeenCalled();
    });
    expect(last("POST")?.body).toMatchObject({
      way: "mail",
      teamId: "night",
      addresses: ["duty@halyard.example", "second@halyard.example"],
      digestAt: ["07:30", "19:00"],
      afterSeconds: 0,
      quiet: null,
      url: null,
    });
  });

  it("by a web hook has an address of the web, no summary, and quiet hours", async () => {
    service.answers["POST notices"] = [422, { detail: "The address has to begin with https." }];
    show(<NoticeEditor groups={groups} mayEverywhere={false} onDone={vi.fn()} onClose={vi.fn()} />);
    await userEvent.click(screen.getByRole("radio", { name: "in a daily summary" }));
    await userEvent.click(screen.getByRole("radio", { name: "by web hook" }));
    expect(screen.queryByRole("radio", { name: "in a daily summary" })).toBeNull();
    expect(screen.getByRole("radio", { name: "at once" })).toBeChecked();
    await fill(/^Web address/, "http://desk.halyard.example/alerts");
    await userEvent.click(screen.getByRole("radio", { name: "when nobody takes it up" }));
    await fill(/^For how many minutes/, "5");
    await fill(/^Quiet hours/, "sat-sun");
    await userEvent.click(screen.getByRole("checkbox", { name: "Critical alerts are told in quiet hours too" }));
    await userEvent.click(screen.getByRole("button", { name: "Let it tell" }));
    expect(await screen.findByRole("alert")).toHaveTextContent("The address has to begin with https.");
    expect(last("POST")?.body).toMatchObject({
      way: "hook",
      url: "http://desk.halyard.example/alerts",
      addresses: [],
      teamId: null,
      groupId: "g",
      afterSeconds: 300,
      digestAt: null,
      quiet: "sat-sun",
      criticalAlways: false,
    });
  });

  it("that is changed keeps what is not touched", async () => {
    service.answers["PUT notices/n"] = [200, { notice: {} }];
    const notice = {
      id: "n",
      version: 7,
      name: "Duty",
      way: "mail",
      atLeast: "critical",
      addresses: ["duty@halyard.example"],
      afterSeconds: 900,
      zone: "Europe/Oslo",
      criticalAlways: true,
      tellsEnd: false,
      off: true,
      about: ["storage"],
    };
    const onDone = vi.fn();
    show(
      <NoticeEditor
        notice={notice as unknown as NoticeInfo}
        groups={groups}
        mayEverywhere
        onDone={onDone}
        onClose={vi.fn()}
      />,
    );
    expect(screen.getByLabelText(/^For how many minutes/)).toHaveValue("15");
    await userEvent.click(screen.getByRole("button", { name: "Change Duty" }));
    await waitFor(() => {
      expect(onDone).toHaveBeenCalled();
    });
    expect(last("PUT")?.body).toMatchObject({
      atLeast: "critical",
      afterSeconds: 900,
      tellsEnd: false,
      off: true,
      about: ["storage"],
    });
  });
});

describe("an alert's page", () => {
  const open = () =>
    show(
      <Routes>
        <Route path="/now/:id" element={<AlertPage />} />
      </Routes>,
      "/now/a1",
    );
  const alert = {
    id: "a1",
    hostId: "h",
    label: "quay-ticket-03",
    systemName: "quay-ticket-03",
    groupPath: "Saltmarsh Ferry/Quay",
    what: "Storage / is 93 % full",
    checkName: "Storage is nearly full",
    severity: "warning",
    state: "open",
    raisedAt: "2026-11-28T09:00:00Z",
    stateAt: "2026-11-28T09:00:00Z",
    follows: "Tickets are no longer printed.",
    fix: "Empty the spool.",
  };

  it("says what is wrong, what follows, who is told, what was before and who has the same", async () => {
    service.answers["GET alerts/a1"] = [
      200,
      {
        alert,
        before: [{ at: "2026-11-28T08:00:00Z", kind: "ran", text: "apt upgrade", jobId: "j", by: "Tomasz Vail" }],
        same: [{ ...alert, id: "a2", label: "quay-ticket-01" }],
        notices: [{ noticeId: "n", notice: "Night desk", said: "was told", at: "2026-11-28T09:01:00Z" }],
        reactions: [
          { reactionId: "r", name: "Make room", at: "2026-11-28T09:02:00Z", jobId: "k", state: "timed-out" },
          { reactionId: "s", name: "Restart it", says: "It is switched off." },
        ],
        graph: null,
      },
    ];
    open();
    expect(await screen.findByRole("heading", { name: "Storage / is 93 % full" })).toBeVisible();
    expect(screen.getByText("Tickets are no longer printed.")).toBeVisible();
    expect(screen.getByText("Empty the spool.")).toBeVisible();
    expect(screen.getByRole("link", { name: "apt upgrade" })).toHaveAttribute("href", "/work/j");
    expect(screen.getByRole("link", { name: "quay-ticket-01" })).toHaveAttribute("href", "/now/a2");
    expect(screen.getByText("Night desk").closest("li")).toHaveTextContent(/Night desk was told/);
    expect(screen.getByRole("link", { name: "Make room" })).toHaveAttribute("href", "/work/k");
    expect(screen.getByText("timed out")).toHaveClass("trouble");
    expect(screen.getByText("Restart it").closest("li")).toHaveTextContent("has not run. It is switched off.");
    expect(screen.queryByText("the graph")).toBeNull();
  });

  it("tells an alert that there is not from a service that does not answer", async () => {
    service.answers["GET alerts/a1"] = [404, { detail: "There is no such alert." }];
    open();
    expect(await screen.findByText("There is no such alert")).toBeVisible();
  });

  it("tells a service that does not answer from an alert that there is not", async () => {
    vi.stubGlobal("fetch", () => Promise.reject(new TypeError("no route")));
    open();
    expect(await screen.findByRole("alert")).toHaveTextContent("The service does not answer");
    expect(screen.queryByText("There is no such alert")).toBeNull();
  });
});
