import { type HubConnection, HttpTransportType, HubConnectionBuilder, LogLevel } from "@microsoft/signalr";

/** The service's words when what one may do has changed: the stream begins anew at once. */
const ACCESS_CHANGED = "What you may do here has changed";

export type LineState = "connecting" | "live" | "broken";

/** Waits before another attempt: doubled up to ten seconds, spread so that many consoles do not return at once. */
export function retryDelay(attempt: number, random: () => number = Math.random): number {
  const ceiling = Math.min(10_000, 500 * 2 ** Math.min(attempt, 10));
  return ceiling / 2 + random() * (ceiling / 2);
}

/** One line for everything that is followed: it stands from the first follower to the last. */
interface Line {
  hub: HubConnection;
  started: Promise<void>;
  holders: number;
  /** The last follower has let it go by itself. */
  letGo: boolean;
}

let current: Line | undefined;

const watchers = new Set<() => void>();

/** Tells when a line was lost that somebody followed something over: the service ends it with the sign-in that it was opened with. */
export function whenLineIsLost(tell: () => void): () => void {
  watchers.add(tell);
  return () => watchers.delete(tell);
}

function hold(): Line {
  const line = (current ??= begin());
  line.holders++;
  return line;
}

function begin(): Line {
  const hub = new HubConnectionBuilder()
    .withUrl("/live", { transport: HttpTransportType.WebSockets, skipNegotiation: true })
    .configureLogging(LogLevel.None)
    .build();
  hub.serverTimeoutInMilliseconds = 25_000;
  hub.keepAliveIntervalInMilliseconds = 10_000;
  const line: Line = { hub, started: hub.start(), holders: 0, letGo: false };
  hub.onclose(() => {
    leave(line);
    if (!line.letGo) watchers.forEach((tell) => tell());
  });
  line.started.catch(() => leave(line));
  return line;
}

/** Whoever follows something from now on gets another line. */
function leave(line: Line) {
  if (current === line) current = undefined;
}

function release(line: Line, lost: boolean) {
  if (--line.holders > 0) return;
  leave(line);
  line.letGo = !lost;
  void line.hub.stop();
}

/**
 * Follows one live stream of the service until the function it returns is called; a broken line is taken up again for ever. Each
 * new line starts with a message whose `reset` is true.
 */
export function follow<T>(
  stream: string,
  args: unknown[],
  onMessage: (message: T) => void,
  onState: (state: LineState, why?: string) => void,
): () => void {
  let stopped = false;
  let attempt = 0;
  let timer: ReturnType<typeof setTimeout> | undefined;
  let close: (() => void) | undefined;

  const again = (why?: string) => {
    if (!stopped) {
      onState("broken", why);
      timer = setTimeout(() => void open(), retryDelay(attempt++));
    }
  };

  const open = async () => {
    const line = hold();
    let held = true;
    const end = (lost = false) => {
      if (held) release(line, lost);
      held = false;
    };
    close = end;
    try {
      await line.started;
    } catch (e) {
      end(true);
      again(e instanceof Error ? e.message : undefined);
      return;
    }
    if (stopped) return;
    onState("live");
    const reading = line.hub.stream<T>(stream, ...args).subscribe({
      next: (message) => {
        if (stopped) return;
        attempt = 0;
        onMessage(message);
      },
      error: (e: Error) => {
        const changed = e.message.includes(ACCESS_CHANGED);
        // The line was opened by whoever was signed in then; what begins anew does so as whoever is now.
        if (changed) leave(line);
        end(true);
        if (changed && !stopped) void open();
        else again(e.message);
      },
      complete: () => end(),
    });
    close = () => {
      if (held) reading.dispose();
      end();
    };
  };

  onState("connecting");
  void open();
  return () => {
    stopped = true;
    clearTimeout(timer);
    close?.();
  };
}
