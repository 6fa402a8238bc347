import { fireEvent, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { beforeEach, describe, expect, it, vi } from "vitest";
import type { HostSummary } from "../api/types";
import { show } from "../test-pages";
import { DeliverFields } from "./DeliverFields";
import type { Dropped } from "./dropped";
import { EraseDialog, FolderDialog, MoveDialog, SettingDialog } from "./FileDialogs";
import type { FileEntry } from "./hostFiles";
import { type Destination, nowhere } from "./places";

const host = { id: "h", label: "quay-office-02", groupPath: "Saltmarsh Ferry/Quay" } as HostSummary;
const entry = {
  name: { text: "berths" },
  kind: "folder",
  mode: 0o40755,
  owner: "root",
  group: "adm",
} as unknown as FileEntry;
const path = { text: "/srv/berths" };

const change = vi.fn();
const onDone = vi.fn();
const onClose = vi.fn();
const common = { host, change, onDone, onClose };

beforeEach(() => {
  for (const mock of [change, onDone, onClose]) mock.mockReset();
  change.mockResolvedValue({ count: 1 });
});

const done = () =>
  waitFor(() => {
    expect(onClose).toHaveBeenCalled();
  });

describe("a new folder", () => {
  it("has a name that a folder can have, and says what is wrong with another", async () => {
    show(<FolderDialog {...common} folder={{ text: "/srv" }} />);
    const [name, button] = [
      screen.getByLabelText("Name"),
      screen.getByRole("button", { name: "Make it on quay-office-02" }),
    ];
    expect(button).toBeDisabled();
    expect(screen.getByText("It needs a name.")).toBeVisible();
    for (const [wrong, why] of [
      ["a/b", "no slash in it"],
      ["..", "Dots alone"],
      ["ø".repeat(128), "at most 255 bytes"],
    ] as const) {
      fireEvent.change(name, { target: { value: wrong } });
      expect(screen.getByText(why, { exact: false })).toBeVisible();
      expect(button).toBeDisabled();
    }
    fireEvent.change(name, { target: { value: "ø".repeat(127) } });
    await userEvent.click(button);
    await done();
    expect(change).toHaveBeenCalledWith({ folder: { text: `/srv/${"ø".repeat(127)}` } });
    expect(onDone).toHaveBeenCalledWith(`${"ø".repeat(127)} is there.`);
  });

  it("that can't be made says why, and stays as it was written", async () => {
    change.mockRejectedValue(new Error("/srv is on a file system that can only be read."));
    show(<FolderDialog {...common} folder={{ text: "/srv" }} />);
    await userEvent.type(screen.getByLabelText("Name"), "labels{Enter}");
    expect(await screen.findByRole("alert")).toHaveTextContent("can only be read");
    expect(screen.getByLabelText("Name")).toHaveValue("labels");
    expect(onClose).not.toHaveBeenCalled();
  });
});

describe("another name", () => {
  it.each([
    ["/srv/berths", "That is what it is called now."],
    ["berths", "Write the whole path, from the root."],
  ])("is not %s", (to, why) => {
    show(<MoveDialog {...common} path={path} />);
    fireEvent.change(screen.getByLabelText("Its new whole path"), { target: { value: to } });
    expect(screen.getByText(why)).toBeVisible();
    expect(screen.getByRole("button", { name: "Move it on quay-office-02" })).toBeDisabled();
  });

  it("is given with the name as the host has it", async () => {
    const raw = { text: "/srv/caf\ufffd", bytes: [0x2f, 0x73] } as never;
    show(<MoveDialog {...common} path={raw} />);
    fireEvent.change(screen.getByLabelText("Its new whole path"), { target: { value: "/srv/café" } });
    await userEvent.click(screen.getByRole("button", { name: "Move it on quay-office-02" }));
    await done();
    expect(change).toHaveBeenCalledWith({ move: { from: raw, to: { text: "/srv/café" } } });
  });
});

describe("mode and owner", () => {
  const open = () => show(<SettingDialog {...common} path={path} entry={entry} />);
  const button = () => screen.getByRole("button", { name: "Set them on quay-office-02" });

  it("are set as far as they differ", async () => {
    open();
    expect(screen.getByText("That is as it is now.")).toBeVisible();
    const mode = screen.getByLabelText("Mode");
    fireEvent.change(mode, { target: { value: "0799" } });
    expect(screen.getByText(/^A mode is three digits/)).toBeVisible();
    expect(button()).toBeDisabled();
    fireEvent.change(mode, { target: { value: "0750" } });
    await userEvent.click(button());
    await done();
    expect(change.mock.calls[0]?.[0]).toEqual({ set: { path, mode: 0o750, deep: false } });
    expect(onDone).toHaveBeenCalledWith("/srv/berths is set.");
  });

  it("of everything below are all set, and what could not be is told", async () => {
    change.mockImplementation((_: object, word: (w: { problem: string }) => void) => {
      for (let i = 1; i <= 5; i++) word({ problem: `/srv/berths/${i} is somebody's.` });
      return Promise.resolve({ count: 3 });
    });
    open();
    await userEvent.click(screen.getByRole("checkbox"));
    await userEvent.click(button());
    expect(await screen.findByRole("alert")).toHaveTextContent(
      "/srv/berths/1 is somebody's. /srv/berths/2 is somebody's. /srv/berths/3 is somebody's. And 2 more.",
    );
    expect(change.mock.calls[0]?.[0]).toEqual({ set: { path, mode: 0o755, owner: "root", group: "adm", deep: true } });
    expect(onClose).not.toHaveBeenCalled();
  });
});

describe("what is deleted for good", () => {
  it("is named with whose host it is on, counted as it goes, and counted in the end", async () => {
    let finish: (word: { count: number }) => void = () => undefined;
    change.mockImplementation((_: object, word: (w: { count: number }) => void) => {
      word({ count: 1200 });
      return new Promise((resolve) => (finish = resolve));
    });
    show(<EraseDialog {...common} path={path} entry={entry} />);
    await userEvent.click(
      screen.getByRole("button", { name: "Delete it from quay-office-02 of Saltmarsh Ferry for good" }),
    );
    expect(await screen.findByText(/It goes with everything below it.* 1200 so far\./)).toBeVisible();
    finish({ count: 1500 });
    await done();
    expect(onDone).toHaveBeenCalledWith("/srv/berths is gone, 1500 files and folders in all.");
  });
});

describe("what goes to many hosts", () => {
  const file = (name: string, size: number) =>
    ({ path: name.split("/"), file: new File(["x".repeat(size)], name) }) as Dropped;

  function Fields({ first, told }: { first: Dropped[]; told: (to: Destination, chosen: Dropped[]) => void }) {
    const [chosen, setChosen] = useState(first);
    const [to, setTo] = useState(nowhere);
    told(to, chosen);
    return <DeliverFields chosen={chosen} onChosen={setChosen} to={to} onTo={setTo} />;
  }

  const open = (...first: Dropped[]) => {
    const told = vi.fn<(to: Destination, chosen: Dropped[]) => void>();
    show(<Fields first={first} told={told} />);
    return { to: () => told.mock.lastCall?.[0], chosen: () => told.mock.lastCall?.[1].map((c) => c.path.join("/")) };
  };

  it("is named by what lies at the top, and left out as such", async () => {
    const now = open(file("labels/a.txt", 1024), file("labels/b.txt", 512), file("berths.txt", 10));
    expect(screen.getByText("labels").closest("li")).toHaveTextContent("labels folder with 2 files, 1.5 KiB");
    expect(screen.getByText("berths.txt").closest("li")).toHaveTextContent("berths.txt 10 B");
    await userEvent.click(screen.getByRole("button", { name: "Leave out labels" }));
    expect(now.chosen()).toEqual(["berths.txt"]);
  });

  it("is named up to a point", () => {
    open(...Array.from({ length: 11 }, (_, i) => file(`${i}.txt`, 1)));
    expect(screen.getByText("and 3 more")).toBeVisible();
  });

  it("takes the place of what was chosen under the same name", async () => {
    const now = open(file("berths.txt", 10));
    await userEvent.upload(screen.getByLabelText("Files to deliver"), [
      new File(["new"], "berths.txt"),
      new File(["x"], "tide.txt"),
    ]);
    expect(now.chosen()).toEqual(["berths.txt", "tide.txt"]);
    expect(screen.getByText("berths.txt").closest("li")).toHaveTextContent("berths.txt 3 B");
  });

  it("goes below a place of each system, or to a folder by its whole path", async () => {
    const now = open(file("berths.txt", 10));
    expect(screen.getByRole("checkbox", { name: "Make the folder where it is not there" })).toBeInTheDocument();
    await userEvent.click(screen.getByRole("combobox", { name: "Where they go" }));
    await userEvent.click(screen.getByRole("option", { name: "Desktop of whoever is logged in", hidden: true }));
    await userEvent.type(screen.getByLabelText("Folder below that"), "Labels");
    expect(screen.queryByRole("checkbox", { name: "Make the folder where it is not there" })).toBeNull();
    await userEvent.click(screen.getByRole("checkbox", { name: "After an error put nothing more on that host" }));
    expect(now.to()).toMatchObject({ place: "desktop", folder: "Labels", stopsAtError: !nowhere.stopsAtError });
  });
});
