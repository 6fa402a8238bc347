import { sha256 } from "@noble/hashes/sha2.js";
import { api, ask, ServiceProblem } from "../api/client";
import { type Dropped, foldersOf } from "./dropped";
import type { FileName } from "./hostFiles";

/** One thing of a parcel, as the API takes it. */
export interface ParcelEntry {
  path: FileName;
  kind: "file" | "folder";
  bytes: number;
  changedAt?: string;
  sha256?: string;
}

export interface ParcelInfo {
  id: string;
  name: string;
  files: number;
  bytes: number;
  received: number;
  digest?: string;
}

/** How far a parcel is on its way to the service. */
export interface ParcelAt {
  there: number;
  bytes: number;
  /** Bytes a second, lately. */
  rate: number;
  /** Said while the line is broken. */
  note?: string | undefined;
}

/** What the service keeps of one piece is on its disk when it answers. */
const PIECE = 8 << 20;
const PATIENCE = 10 * 60_000;
const RATE_OVER = 5000;

const base64 = (bytes: Uint8Array) => btoa(Array.from(bytes, (b) => String.fromCharCode(b)).join(""));
const hex = (bytes: Uint8Array) => Array.from(bytes, (b) => b.toString(16).padStart(2, "0")).join("");

/** Files and the folders that they need, in the order in which their contents are sent. */
export function entriesOf(dropped: Dropped[]): { entries: ParcelEntry[]; files: File[] } {
  const folders = foldersOf(dropped).map((path): ParcelEntry => ({
    path: { text: path.join("/") },
    kind: "folder",
    bytes: 0,
  }));
  const withFile = dropped.filter((d): d is Dropped & { file: File } => !!d.file);
  return {
    entries: [
      ...folders,
      ...withFile.map(({ path, file }): ParcelEntry => ({
        path: { text: path.join("/") },
        kind: "file",
        bytes: file.size,
        changedAt: new Date(file.lastModified).toISOString(),
      })),
    ],
    files: withFile.map((d) => d.file),
  };
}

/** The same word for the same files: what was broken off is gone on with when they are chosen again. */
export function keyOf(entries: ParcelEntry[]): string {
  const hash = sha256.create();
  for (const e of entries)
    hash.update(new TextEncoder().encode(`${e.path.text}\0${e.kind}\0${e.bytes}\0${e.changedAt ?? ""}\0`));
  return hex(hash.digest());
}

/** A part of all contents, one behind the other. */
export function partOf(files: File[], from: number, most: number): Blob {
  const parts: Blob[] = [];
  let at = 0;
  let left = most;
  for (const file of files) {
    if (left <= 0) break;
    const begin = Math.max(0, from - at);
    if (begin < file.size) {
      const part = file.slice(begin, Math.min(file.size, begin + left));
      parts.push(part);
      left -= part.size;
    }
    at += file.size;
  }
  return new Blob(parts);
}

/**
 * Sends files to the service for hosts to fetch, over as many lines as it takes, and makes sure that it has them as they were read here.
 */
export async function sendParcel(
  dropped: Dropped[],
  tell: (at: ParcelAt) => void,
  stop: AbortSignal,
  between = 2000,
): Promise<ParcelInfo> {
  const { entries, files } = entriesOf(dropped);
  const begin = (key: string) =>
    asked<ParcelInfo>(
      stop,
      api.POST("/api/v1/parcels", {
        body: { entries } as never,
        headers: { "Idempotency-Key": key },
        signal: stop,
      }),
    );
  const sent = await sendBody(await begin(keyOf(entries)), files, tell, stop, between);
  if (await isRight(sent, files, stop)) return sent;
  // Other contents of the same lengths and times were sent before.
  const anew = await sendBody(await begin(crypto.randomUUID()), files, tell, stop, between);
  if (await isRight(anew, files, stop)) return anew;
  throw new Error("What the service received is not what was read here; nothing is put anywhere. Try again.");
}

async function sendBody(
  parcel: ParcelInfo,
  files: File[],
  tell: (at: ParcelAt) => void,
  stop: AbortSignal,
  between: number,
): Promise<ParcelInfo> {
  const marks: { at: number; there: number }[] = [];
  let since = Date.now();
  while (!parcel.digest) {
    const now = Date.now();
    marks.push({ at: now, there: parcel.received });
    while (marks.length > 2 && now - (marks[0]?.at ?? now) > RATE_OVER) marks.shift();
    const first = marks[0] ?? { at: now, there: parcel.received };
    const rate = now > first.at ? (1000 * (parcel.received - first.there)) / (now - first.at) : 0;
    tell({ there: parcel.received, bytes: parcel.bytes, rate });
    try {
      const body = partOf(files, parcel.received, PIECE);
      parcel = await asked<ParcelInfo>(
        stop,
        api.PUT("/api/v1/parcels/{id}/content", {
          params: { path: { id: parcel.id } },
          body: body as never,
          bodySerializer: (bytes: unknown) => bytes as Blob,
          headers: {
            "Content-Type": "application/octet-stream",
            "Content-Range": `bytes ${parcel.received}-${parcel.received + body.size - 1}/${parcel.bytes}`,
          },
          signal: stop,
        }),
      );
      if (parcel.digest || parcel.received > (marks.at(-1)?.there ?? 0)) since = Date.now();
      else throw new ServiceProblem({ detail: "The service took none of it." } as never, 0);
    } catch (e) {
      const broken = e instanceof ServiceProblem && (e.status === 0 || e.status === 409 || e.status >= 502);
      if (!broken || e.status === 507 || Date.now() - since > PATIENCE) throw e;
      tell({
        there: parcel.received,
        bytes: parcel.bytes,
        rate: 0,
        note: "The line to the service broke; going on as soon as it is there again.",
      });
      await new Promise((resolve) => setTimeout(resolve, between));
      parcel = await asked<ParcelInfo>(
        stop,
        api.GET("/api/v1/parcels/{id}", { params: { path: { id: parcel.id } }, signal: stop }),
      ).catch((again: unknown) => {
        if (again instanceof ServiceProblem && again.status === 0) return parcel;
        throw again;
      });
    }
  }
  tell({ there: parcel.bytes, bytes: parcel.bytes, rate: 0 });
  return parcel;
}

/** Whether what the service has of each file is what is here. */
async function isRight(parcel: ParcelInfo, files: File[], stop: AbortSignal): Promise<boolean> {
  const list = await asked<string>(
    stop,
    api.GET("/api/v1/parcels/{id}/list", {
      params: { path: { id: parcel.id } },
      parseAs: "text",
      signal: stop,
    }),
  );
  const [, ...lines] = list.trimEnd().split("\n");
  const kept = lines.map((l) => JSON.parse(l) as ParcelEntry).filter((e) => e.kind === "file");
  if (kept.length !== files.length) return false;
  for (const [i, file] of files.entries()) {
    const hash = sha256.create();
    for (let at = 0; at < file.size; at += PIECE) {
      if (stop.aborted) throw new Stopped();
      hash.update(new Uint8Array(await file.slice(at, at + PIECE).arrayBuffer()));
    }
    if (base64(hash.digest()) !== kept[i]?.sha256) return false;
  }
  return true;
}

/** Whoever sent it has stopped it. */
export class Stopped extends Error {}

/** The data of an answer, or what was in the way: that somebody has stopped counts before all else. */
async function asked<T>(stop: AbortSignal, call: Promise<unknown>): Promise<T> {
  try {
    return (await ask(call as Promise<{ data?: T; response: Response }>)) as T;
  } catch (e) {
    if (stop.aborted) throw new Stopped();
    throw e;
  }
}
