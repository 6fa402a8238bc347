import type { HostService, ProcessChanges } from "../api/types";
import { HostSocket } from "../sessions/hostSocket";
import type { Proof } from "../sessions/useProof";

/** What a host says on any channel on which it alone speaks. */
export interface HostWord {
  notice?: string;
  problem?: string;
}

/** What a host says on a channel that shows what runs there. */
export interface ViewWord extends HostWord {
  changes?: ProcessChanges;
  services?: HostService[];
}

/** What is to be seen. */
export type LookWish =
  { kind: "processes" | "services"; view: { everySeconds: number } } | { kind: "logs"; log: object };

export interface LookEvents<W> {
  word(word: W): void;
  notice(sentence: string): void;
  /** It is over, unless the technician left; said why. */
  over(why: string): void;
}

/** A look at what goes on at a host, for as long as it is open. */
export class HostLook<W extends HostWord> {
  readonly #socket: HostSocket;

  constructor(hostId: string, wish: LookWish, proof: Proof, events: LookEvents<W>) {
    let problem = "The line to the host broke. Look again.";
    const wanted =
      wish.kind === "logs"
        ? ({ kind: wish.kind, name: "log", wanted: wish.log, act: "read-files" } as const)
        : ({ kind: wish.kind, name: "view", wanted: wish.view, act: "run" } as const);
    this.#socket = new HostSocket(hostId, wanted, proof, {
      message: (data) => {
        const word = JSON.parse(String(data)) as W;
        if (word.problem) problem = word.problem;
        if (word.notice) events.notice(word.notice);
        events.word(word);
      },
      over: (why) => events.over(why ?? problem),
    });
  }

  close(): void {
    this.#socket.close();
  }
}
