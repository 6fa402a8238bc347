import { Blob as RealBlob, File as RealFile } from "node:buffer";
import { sha256 } from "@noble/hashes/sha2.js";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { Dropped } from "./dropped";
import { entriesOf, keyOf, type ParcelAt, type ParcelEntry, partOf, sendParcel, Stopped } from "./parcels";
import { deliverOf, nowhere, problemOf } from "./places";

const base64 = (bytes: Uint8Array) => btoa(Array.from(bytes, (b) => String.fromCharCode(b)).join(""));

function noise(length: number, seed = 7): Uint8Array<ArrayBuffer> {
  const bytes = new Uint8Array(length);
  for (let i = 0, x = seed; i < length; i++) bytes[i] = (x = (x * 1103515245 + 12345) & 0x7fffffff) >> 16;
  return bytes;
}

const file = (path: string, content: Uint8Array<ArrayBuffer>): Dropped => ({
  path: path.split("/"),
  file: new File([content], path.split("/").at(-1) ?? path, { lastModified: 1700000000000 }),
});

function joined(one: Uint8Array, other: Uint8Array): Uint8Array {
  const both = new Uint8Array(one.length + other.length);
  both.set(one);
  both.set(other, one.length);
  return both;
}

/** Takes parcels in as the service does, and fails as it is told to. */
class Service {
  parcels = new Map<string, { id: string; entries: ParcelEntry[]; body: Uint8Array }>();
  calls: string[] = [];
  fail: ((call: string) => Response | "broken" | undefined) | undefined;
  keeps = (body: Uint8Array) => body;

  answer = async (request: Request): Promise<Response> => {
    const path = new URL(request.url).pathname.replace("/api/v1/", "");
    const call = `${request.method} ${path
      .split("/")
      .filter((_, i) => i !== 1)
      .join("/")}`;
    this.calls.push(call);
    const failed = this.fail?.(call);
    if (failed === "broken") throw new TypeError("network");
    if (failed) return failed;
    if (call === "POST parcels") {
      const key = request.headers.get("Idempotency-Key") ?? "";
      const { entries } = (await request.json()) as { entries: ParcelEntry[] };
      if (!this.parcels.has(key))
        this.parcels.set(key, { id: `${this.parcels.size + 1}`, entries, body: new Uint8Array() });
      return this.info(key);
    }
    const [key, parcel] = [...this.parcels].find(([, p]) => p.id === path.split("/")[1]) ?? ["", undefined];
    if (!parcel) return problem(404, "There is no such parcel.");
    if (call === "PUT parcels/content") {
      const from = Number(/bytes (\d+)-/.exec(request.headers.get("Content-Range") ?? "")?.[1]);
      if (from !== parcel.body.length)
        return problem(409, `Of this parcel ${parcel.body.length} bytes are here; go on there.`);
      parcel.body = joined(parcel.body, this.keeps(new Uint8Array(await request.arrayBuffer())));
    }
    if (call === "GET parcels/list") {
      let at = 0;
      const lines = parcel.entries.map((e) => {
        const bytes = parcel.body.slice(at, (at += e.bytes));
        return JSON.stringify(e.kind === "file" ? { ...e, sha256: base64(sha256(bytes)) } : e);
      });
      return new Response(["{}", ...lines, ""].join("\n"));
    }
    return this.info(key);
  };

  private info(key: string): Response {
    const parcel = this.parcels.get(key);
    const bytes = parcel?.entries.reduce((sum, e) => sum + e.bytes, 0) ?? 0;
    const received = parcel?.body.length ?? 0;
    return Response.json({
      id: parcel?.id,
      name: "labels",
      files: 2,
      bytes,
      received,
      ...(received === bytes ? { digest: "d".repeat(64) } : {}),
    });
  }
}

const problem = (status: number, detail: string) =>
  new Response(JSON.stringify({ status, detail }), { status, headers: { "Content-Type": "application/problem+json" } });

function start(): Service {
  const service = new Service();
  vi.stubGlobal("fetch", service.answer);
  return service;
}

// What a request takes as its body are those of the browser; the stand-in for a page has others.
beforeEach(() => {
  vi.stubGlobal("Blob", RealBlob);
  vi.stubGlobal("File", RealFile);
});

afterEach(() => vi.unstubAllGlobals());

const go = () => new AbortController().signal;

test("files and their folders are one list, each folder before what it holds", () => {
  const { entries, files } = entriesOf([
    file("labels/2026/plum", noise(3)),
    file("one", noise(1)),
    { path: ["empty"] },
  ]);
  expect(entries.map((e) => `${e.kind} ${e.path.text}`)).toEqual([
    "folder labels",
    "folder empty",
    "folder labels/2026",
    "file labels/2026/plum",
    "file one",
  ]);
  expect(files.map((f) => f.size)).toEqual([3, 1]);
  expect(keyOf(entries)).toBe(
    keyOf(entriesOf([file("labels/2026/plum", noise(3)), file("one", noise(1)), { path: ["empty"] }]).entries),
  );
  expect(keyOf(entries)).not.toBe(keyOf(entries.slice(1)));
});

test("a part of the contents begins and ends anywhere", async () => {
  const files = [new File([noise(10, 1)], "a"), new File([], "b"), new File([noise(10, 2)], "c")];
  const all = new Uint8Array([...noise(10, 1), ...noise(10, 2)]);
  for (const [from, most] of [
    [0, 20],
    [0, 5],
    [5, 10],
    [10, 10],
    [15, 100],
    [20, 5],
  ] as const)
    expect(new Uint8Array(await partOf(files, from, most).arrayBuffer())).toEqual(all.slice(from, from + most));
});

test("a parcel is sent and compared, and sent again it is there already", async () => {
  const service = start();
  const said: ParcelAt[] = [];
  const dropped = [file("labels/plum", noise(9_000_000)), file("labels/nothing", noise(0))];
  const parcel = await sendParcel(dropped, (at) => said.push(at), go());
  expect(parcel.digest).toBe("d".repeat(64));
  expect(said.at(-1)).toMatchObject({ there: 9_000_000, bytes: 9_000_000 });
  expect(service.calls).toEqual(["POST parcels", "PUT parcels/content", "PUT parcels/content", "GET parcels/list"]);
  service.calls = [];
  await sendParcel(dropped, () => undefined, go());
  expect(service.calls).toEqual(["POST parcels", "GET parcels/list"]);
});

test("a line that breaks is gone on with where the service's part ends", async () => {
  const service = start();
  let failures = 0;
  service.fail = (call) =>
    !["POST parcels", "GET parcels/list"].includes(call) && ++failures % 3 !== 0 && failures < 9 ? "broken" : undefined;
  const notes: (string | undefined)[] = [];
  await sendParcel([file("large", noise(9_000_000))], (at) => notes.push(at.note), go(), 1);
  expect([...service.parcels.values()][0]?.body.length).toBe(9_000_000);
  expect(notes).toContain("The line to the service broke; going on as soon as it is there again.");
});

test("other contents of the same length and time are not taken for these", async () => {
  const service = start();
  await sendParcel([file("note", noise(100, 1))], () => undefined, go());
  await sendParcel([file("note", noise(100, 2))], () => undefined, go());
  expect([...service.parcels.values()].map((p) => p.body)).toEqual([noise(100, 1), noise(100, 2)]);
});

test("what arrives otherwise than it was read is said", async () => {
  const service = start();
  service.keeps = (body) => body.map((b) => b ^ 1);
  await expect(sendParcel([file("note", noise(100))], () => undefined, go())).rejects.toThrow(
    "is not what was read here",
  );
});

test("a refusal ends it with the service's own words, and a stop at once", async () => {
  const service = start();
  service.fail = (call) => (call === "POST parcels" ? problem(413, "The service has room for 3 MiB.") : undefined);
  await expect(sendParcel([file("note", noise(10))], () => undefined, go())).rejects.toThrow(
    "The service has room for 3 MiB.",
  );
  service.fail = (call) => (call === "PUT parcels/content" ? problem(507, "The service can't keep it.") : undefined);
  await expect(sendParcel([file("note", noise(10))], () => undefined, go())).rejects.toThrow("can't keep it");
  service.fail = undefined;
  const stop = new AbortController();
  stop.abort();
  vi.stubGlobal("fetch", (request: Request) => Promise.reject(request.signal.reason as Error));
  await expect(sendParcel([file("note", noise(10))], () => undefined, stop.signal)).rejects.toBeInstanceOf(Stopped);
});

test("where files go is said as the service takes it", () => {
  const parcel = { digest: "d".repeat(64), name: "kiosk.conf", files: 1, bytes: 5 };
  expect(problemOf(nowhere)).toBe("Say where they go first");
  expect(problemOf({ ...nowhere, folder: "etc" })).toContain("from the root");
  expect(problemOf({ ...nowhere, place: "home", folder: "../x" })).toContain("no dots");
  expect(problemOf({ ...nowhere, folder: "/etc", mode: "rw" })).toContain("three digits");
  expect(problemOf({ ...nowhere, folder: "/etc", owner: "a:b:c" })).toContain("An owner is");
  expect(problemOf({ ...nowhere, place: "desktop" })).toBeUndefined();
  expect(
    deliverOf({ ...nowhere, folder: " /etc/kiosk ", mode: "0640", owner: "kiosk:adm", rate: "02" }, parcel),
  ).toEqual({
    ...parcel,
    folder: { text: "/etc/kiosk" },
    makesFolder: false,
    existing: "ask",
    stopsAtError: false,
    mode: 0o640,
    owner: "kiosk",
    group: "adm",
    rate: 2 * 1024 * 1024,
  });
  expect(deliverOf({ ...nowhere, place: "desktop", folder: "/Timetables/", owner: ":adm" }, parcel)).toMatchObject({
    place: "desktop",
    folder: { text: "Timetables" },
    group: "adm",
  });
  expect(deliverOf({ ...nowhere, place: "fonts" }, parcel)).not.toHaveProperty("folder");
});
