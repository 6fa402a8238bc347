import type { ITerminalInitOnlyOptions, ITerminalOptions, ITheme, Terminal } from "@xterm/xterm";
import { withStrictStyles } from "./strictStyles";

/** Always night: programs choose their colours for a dark terminal. */
const theme: ITheme = {
  background: "#0d1015",
  foreground: "#e8e4da",
  cursor: "#e3a84f",
  cursorAccent: "#17130b",
  selectionBackground: "#e3a84f55",
  black: "#1a1f29",
  red: "#e8806f",
  green: "#9cbf8a",
  yellow: "#d9c07c",
  blue: "#8fb0d6",
  magenta: "#b79bdc",
  cyan: "#86c2c0",
  white: "#d9d5cb",
  brightBlack: "#7d8494",
  brightRed: "#ff9f8f",
  brightGreen: "#b8dba5",
  brightYellow: "#f0d894",
  brightBlue: "#aecbee",
  brightMagenta: "#d1b8f2",
  brightCyan: "#a4dedb",
  brightWhite: "#ffffff",
};

/** A terminal in the element, with its programs loaded on first use. `before` may add to it before it is drawn. */
export async function openTerminal(
  element: HTMLElement,
  label: string,
  options: ITerminalOptions & ITerminalInitOnlyOptions,
  before?: (terminal: Terminal) => void,
): Promise<Terminal> {
  const [{ Terminal }] = await Promise.all([
    import("@xterm/xterm"),
    import("@xterm/xterm/css/xterm.css"),
    document.fonts.load('15px "Atkinson Hyperlegible Mono Variable"'),
  ]);
  const terminal = new Terminal({
    fontFamily: '"Atkinson Hyperlegible Mono Variable", ui-monospace, monospace',
    fontSize: 15,
    cursorBlink: false,
    screenReaderMode: true,
    theme,
    ...options,
  });
  before?.(terminal);
  withStrictStyles(() => terminal.open(element));
  terminal.textarea?.setAttribute("aria-label", label);
  return terminal;
}
