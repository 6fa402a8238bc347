import { HttpTransportType, HubConnectionBuilder, LogLevel } from "@microsoft/signalr";

/** The service's words when what one may do has changed: the stream begins anew at once. */
const ACCESS_CHANGED = "What you may do here has changed";

export type LineState = "connecting" | "live" | "broken";

/** Waits before another attempt: doubled up to ten seconds, spread so that many consoles do not return at once. */
export function retryDelay(attempt: number, random: () => number = Math.random): number {
  const ceiling = Math.min(10_000, 500 * 2 ** Math.min(attempt, 10));
  return ceiling / 2 + random() * (ceiling / 2);
}

/**
 * Follows one live stream of the service until `stop` is called; a broken line is taken up again for ever. Each new line
 * starts with a message whose `reset` is true.
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
      timer = setTimeout(open, retryDelay(attempt++));
    }
  };

  const open = async () => {
    const line = new HubConnectionBuilder()
      .withUrl("/live", { transport: HttpTransportType.WebSockets, skipNegotiation: true })
      .configureLogging(LogLevel.None)
      .build();
    line.serverTimeoutInMilliseconds = 25_000;
    line.keepAliveIntervalInMilliseconds = 10_000;
    close = () => void line.stop();
    try {
      await line.start();
    } catch (e) {
      again(e instanceof Error ? e.message : undefined);
      return;
    }
    if (stopped) {
      void line.stop();
      return;
    }
    onState("live");
    let ended = false;
    const end = (why?: string) => {
      if (!ended) {
        ended = true;
        void line.stop();
        if (why?.includes(ACCESS_CHANGED) && !stopped) void open();
        else again(why);
      }
    };
    line.onclose((e) => end(e?.message));
    line.stream<T>(stream, ...args).subscribe({
      next: (message) => {
        attempt = 0;
        onMessage(message);
      },
      error: (e: Error) => end(e.message),
      complete: () => {
        ended = true;
        void line.stop();
      },
    });
  };

  onState("connecting");
  void open();
  return () => {
    stopped = true;
    clearTimeout(timer);
    close?.();
  };
}
