/** What the two ends of a shell's channel say beside the bytes; each message has one of these. */
export interface ShellWord {
  // To the host.
  size?: TerminalSize;
  inputEnds?: boolean;
  seen?: number;
  end?: boolean;
  // From the host.
  opened?: { shellId: string; pid: number; user: string; offset: number; missed: number; taken: number };
  taken?: number;
  notice?: string;
  ended?: RunEnd;
  problem?: string;
  displaced?: boolean;
}

export interface TerminalSize {
  columns: number;
  rows: number;
}

export interface RunEnd {
  outcome: string;
  exitStatus?: number | null;
  reason?: string | null;
}

/** What is wanted of a host's shell. */
export interface ShellWish {
  shellId?: string | null;
  beginAs?: string | null;
  seen: number;
  terminal: TerminalSize;
  terminalType: string;
  user?: string | null;
  keepSeconds: number;
  idleSeconds: number;
}

/** Most bytes on their way without acknowledgement, each way. */
export const WINDOW = 256 * 1024;

/** Most bytes of input in one message. */
export const MAX_DATA = 16 * 1024;
