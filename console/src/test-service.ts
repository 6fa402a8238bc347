/** A stand-in for the service in tests of what comes to a host: the real client, over channels whose other end a test has. */
import { vi } from "vitest";

/** The service's end of a channel. */
export class ChannelEnd {
  static readonly OPEN = 1;
  static all: ChannelEnd[] = [];
  /** Whether channels can be opened; undefined has them wait until a test opens them. */
  static opens: boolean | undefined = true;

  /** The one that was opened last. */
  static get last(): ChannelEnd {
    const end = ChannelEnd.all.at(-1);
    if (!end) throw new Error("no channel was opened");
    return end;
  }

  readyState = ChannelEnd.OPEN;
  bufferedAmount = 0;
  binaryType = "";
  onopen: (() => void) | undefined;
  onerror: (() => void) | undefined;
  onmessage: ((e: { data: string | ArrayBuffer }) => void) | undefined;
  onclose: ((e: { reason: string }) => void) | undefined;
  readonly said: (string | ArrayBuffer)[] = [];

  constructor() {
    ChannelEnd.all.push(this);
    const { opens } = ChannelEnd;
    if (opens !== undefined) queueMicrotask(() => (opens ? this.onopen?.() : this.onerror?.()));
  }

  send(data: string | ArrayBuffer) {
    this.said.push(data);
  }

  close() {
    this.readyState = 3;
  }

  word(word: object) {
    this.onmessage?.({ data: JSON.stringify(word) });
  }

  bytes(...bytes: number[]) {
    this.onmessage?.({ data: new Uint8Array(bytes).buffer });
  }

  breaks(reason = "") {
    this.readyState = 3;
    this.onclose?.({ reason });
  }

  /** Words without the ticket, which comes first. */
  get words(): unknown[] {
    return this.said
      .slice(1)
      .filter((s) => typeof s === "string")
      .map((s) => JSON.parse(s) as unknown);
  }
}

/** Whoever draws beside the page: what it is told, and a way to answer. */
export class Drawer {
  static last: Drawer;
  onmessage: ((e: { data: object }) => void) | undefined;
  readonly told: { kind: string }[] = [];
  isOver = false;

  constructor() {
    Drawer.last = this;
  }

  postMessage(message: { kind: string }) {
    this.told.push(message);
  }

  terminate() {
    this.isOver = true;
  }

  says(message: object) {
    this.onmessage?.({ data: message });
  }
}

export interface Call {
  path: string;
  body: Record<string, unknown>;
}

/** What was asked of the service, and what it answers beside sessions and channels. */
export interface Service {
  calls: Call[];
  refuse: { status: number; detail: string } | undefined;
  session: object;
  /** What is answered instead, where there is something: to "GET /hosts/h". */
  answer: ((path: string) => object | undefined) | undefined;
}

/** Stands in for the network until the globals are put back. */
export function standIn(): Service {
  const service: Service = { calls: [], refuse: undefined, session: {}, answer: undefined };
  let sessions = 0;
  ChannelEnd.all = [];
  ChannelEnd.opens = true;
  vi.stubGlobal("WebSocket", ChannelEnd);
  vi.stubGlobal("fetch", async (request: Request) => {
    const path = `${request.method} ${new URL(request.url).pathname.replace("/api/v1", "")}`;
    service.calls.push({ path, body: request.body ? ((await request.json()) as Record<string, unknown>) : {} });
    const { refuse } = service;
    if (refuse) return Response.json(refuse, { status: refuse.status });
    const answer = service.answer?.(path);
    if (answer) return Response.json(answer);
    if (path.endsWith("/channels"))
      return Response.json({
        channelId: "c",
        path: "/channels/c",
        ticket: "a-ticket",
        recording: { id: "r", hasKeys: false },
      });
    return Response.json(path.startsWith("GET") ? service.session : { id: `s${String(++sessions)}` });
  });
  return service;
}
