import { act, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { HostSummary, SelectionChanges } from "../api/types";
import { estateStore } from "../estate/estateStore";
import { save, saveBlob } from "../parts/file";
import { type Answering, answering, quayHost, show } from "../test-pages";
import type { Fetching } from "./fetching";
import { SearchPage } from "./SearchPage";
import type { Find, Search } from "./searching";

/** A search that finds what a test says. */
const searches = vi.hoisted(
  () =>
    [] as {
      hosts: HostSummary[];
      wishes: unknown[];
      tell: (at: Search) => void;
      stop: () => void;
      hash: () => void;
      trash: () => void;
    }[],
);
vi.mock("./searching", async (real) => ({
  ...(await real<object>()),
  FilesSearch: class {
    stop = vi.fn();
    hash = vi.fn();
    trash = vi.fn();
    constructor(
      readonly hosts: HostSummary[],
      readonly wishes: unknown[],
      _proof: object,
      readonly tell: (at: Search) => void,
    ) {
      searches.push(this);
    }
  },
}));
/** What is gathered, as far as a test says. */
const gatherings = vi.hoisted(
  () => [] as { finds: Find[]; tell: (at: Fetching) => void; whole: (zip: Blob) => void; stop: () => void }[],
);
vi.mock("./gathering", () => ({
  reachFilesWith: () => undefined,
  Gathering: class {
    stop = vi.fn();
    constructor(
      readonly finds: Find[],
      _archive: object,
      readonly tell: (at: Fetching) => void,
      readonly whole: (zip: Blob) => void,
    ) {
      gatherings.push(this);
    }
  },
}));
vi.mock("../parts/file", async (real) => ({ ...(await real<object>()), save: vi.fn(), saveBlob: vi.fn() }));
vi.mock("../api/live", () => ({
  follow: (stream: string, _args: unknown[], says: (c: SelectionChanges) => void) => {
    if (stream === "Selected") says({ reset: true, added: ["quay-ticket-01", "gate"], removed: [] } as never);
    return () => undefined;
  },
}));

let service: Answering;
const me = (...anywhere: string[]) => [200, { name: "Ines Okafor", everywhere: [], anywhere }] as [number, unknown];

beforeEach(() => {
  searches.length = 0;
  service = answering();
  service.answers["GET me"] = me("read-files", "write-files");
  service.answers["GET selections/completions"] = [200, { from: 0, to: 0, items: [] }];
  act(() =>
    estateStore.take({ reset: true, hosts: [quayHost("quay-ticket-01"), quayHost("gate"), quayHost("other")] }),
  );
});
afterEach(() => {
  vi.unstubAllGlobals();
  vi.mocked(save).mockClear();
  act(() => estateStore.take({ reset: true, hosts: [] }));
});

const find = (host: string, path: string, more: object = {}, entry: object = {}): Find => ({
  id: `${host} ${path}`,
  host: quayHost(host),
  path: { text: path } as Find["path"],
  entry: { kind: "file", bytes: 2048, changedAt: "2026-11-20T08:00:00Z", owner: "root", ...entry } as Find["entry"],
  ...more,
});
const running = () => {
  const last = searches.at(-1);
  if (!last) throw new Error("nothing is looked for");
  return last;
};
const tells = (part: Partial<Search>) =>
  act(() => running().tell({ finds: [], looked: 0, hosts: 2, seen: 0, problems: [], state: "done", ...part }));
const button = (name: string | RegExp) => screen.findByRole("button", { name });
const looking = async () => {
  show(<SearchPage />);
  await userEvent.type(await screen.findByRole("textbox", { name: "On which hosts" }), "tagged till{Enter}");
  await userEvent.type(screen.getByRole("textbox", { name: "In which folders" }), "/srv, /var/log");
  await userEvent.type(screen.getByRole("textbox", { name: "Name" }), "*.log");
  expect(await screen.findByText("2 hosts now")).toBeVisible();
  await userEvent.click(await button("Look for them"));
};

describe("looking for files", () => {
  it("says what it needs first", async () => {
    show(<SearchPage />);
    expect(await button("Look for them")).toBeDisabled();
    expect(screen.getByRole("status")).toHaveTextContent("Say on which hosts first");
  });

  it("is for those who may read files", async () => {
    service.answers["GET me"] = me("see");
    show(<SearchPage />);
    expect(await screen.findByText("Files are found by those who may read them")).toBeVisible();
    expect(screen.queryByRole("button", { name: "Look for them" })).toBeNull();
  });

  it("goes through the hosts by name and can be stopped", async () => {
    await looking();
    expect(running().hosts.map((h) => h.label)).toEqual(["gate", "quay-ticket-01"]);
    expect(running().wishes).toHaveLength(2);
    tells({ state: "going", looked: 1 });
    await userEvent.click(await button("Stop"));
    expect(running().stop).toHaveBeenCalledTimes(1);
  });

  it("tells what could not be looked at", async () => {
    await looking();
    tells({ problems: [{ host: "gate", text: "It is away, and was not looked at." }] });
    expect(await screen.findByText("One thing could not be looked at")).toBeVisible();
    expect(screen.getByText("It is away, and was not looked at.")).toBeInTheDocument();
  });
});

describe("what was found", () => {
  const found = [
    find("quay-ticket-01", "/var/log/till.log"),
    find("gate", "/srv/old", {}, { kind: "folder" }),
    find("gate", "/srv/gone.log", { note: "in the trash" }),
  ];

  it("is hashed or put into the trash once some of it is chosen, but not what is there already", async () => {
    await looking();
    tells({ finds: found });
    expect(await button("Hash")).toHaveAttribute("title", "Choose some first");
    await userEvent.click(screen.getByRole("checkbox", { name: "Choose all" }));
    expect(screen.getByText("2 chosen")).toBeVisible();
    await userEvent.click(await button("Hash"));
    expect(running().hash).toHaveBeenCalledWith(found.slice(0, 2));
    await userEvent.click(await button("To the trash"));
    const dialog = await screen.findByRole("dialog", { name: "Put 2 things into the trash?" });
    expect(dialog).toHaveTextContent("On 2 hosts. They can be put back");
    await userEvent.click(within(dialog).getByRole("button", { name: "Back" }));
    expect(running().trash).not.toHaveBeenCalled();
    await userEvent.click(screen.getByRole("checkbox", { name: "Choose /srv/old on gate" }));
    await userEvent.click(await button("To the trash"));
    const one = await screen.findByRole("dialog", { name: "Put one thing into the trash?" });
    expect(one).toHaveTextContent("On quay-ticket-01.");
    await userEvent.click(within(one).getByRole("button", { name: "Put them there" }));
    expect(running().trash).toHaveBeenCalledWith(found.slice(0, 1));
  });

  it("shows hashes, and offers to fetch files alone", async () => {
    await looking();
    tells({ finds: [{ ...(found[0] as Find), sha256: "ab12" }, ...found.slice(1)] });
    expect(await screen.findByText("SHA-256 ab12")).toBeVisible();
    expect(screen.getAllByRole("button", { name: /^Fetch \// }).map((b) => b.getAttribute("aria-label"))).toEqual([
      "Fetch /var/log/till.log of quay-ticket-01",
    ]);
  });

  it("is fetched into one archive, with what did not come said", async () => {
    await looking();
    tells({ finds: found });
    expect(await button("Fetch as one ZIP")).toBeDisabled();
    await userEvent.click(screen.getByRole("checkbox", { name: "Choose all" }));
    await userEvent.click(await button("Fetch as one ZIP"));
    await vi.waitFor(() => expect(gatherings).toHaveLength(1));
    const [gathering] = gatherings;
    expect(gathering?.finds).toEqual(found.slice(0, 2));
    const at: Fetching = { bytes: 4096, here: 1024, rate: 0, state: "going" };
    act(() => gathering?.tell(at));
    expect(await screen.findByText("1.0 KiB of 4.0 KiB")).toBeVisible();
    await userEvent.click(await button("Stop fetching 2 things of 2 hosts"));
    expect(gathering?.stop).toHaveBeenCalled();

    const zip = new Blob(["PK"]);
    act(() => {
      gathering?.whole(zip);
      gathering?.tell({
        ...at,
        here: 4096,
        state: "done",
        note: "2 files of 1 host.",
        problems: [{ host: "gate", text: "/srv/old: You may not read it." }],
      });
    });
    expect(saveBlob).toHaveBeenCalledWith("found.zip", zip);
    expect(await screen.findByText("One thing did not come")).toBeVisible();
    expect(screen.getByText(/2 files of 1 host/)).toBeVisible();
  });

  it("is written as CSV, all of it, though only so much is drawn", async () => {
    await looking();
    tells({ finds: Array.from({ length: 305 }, (_, i) => find("gate", `/srv/"${i}".log`)) });
    expect(await screen.findByText("5 more; the CSV has all of them.")).toBeVisible();
    await userEvent.click(await button("CSV"));
    const text = vi.mocked(save).mock.calls[0]?.[2] ?? "";
    expect(text.split("\r\n")).toHaveLength(307);
    expect(text).toContain('gate,"/srv/""304"".log",file,2048,2026-11-20T08:00:00Z,root,\r\n');
  });

  it("is not put into the trash by who may only read", async () => {
    service.answers["GET me"] = me("read-files");
    await looking();
    tells({ finds: found });
    await button("Hash");
    expect(screen.queryByRole("button", { name: "To the trash" })).toBeNull();
  });
});
