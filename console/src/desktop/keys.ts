/** X's names of keys (keysymdef.h), and places of keys on an XT keyboard, from what a browser says of them. */

const named: Record<string, number> = {
  Backspace: 0xff08,
  Tab: 0xff09,
  Enter: 0xff0d,
  Pause: 0xff13,
  ScrollLock: 0xff14,
  PrintScreen: 0xff61,
  Escape: 0xff1b,
  Home: 0xff50,
  ArrowLeft: 0xff51,
  ArrowUp: 0xff52,
  ArrowRight: 0xff53,
  ArrowDown: 0xff54,
  PageUp: 0xff55,
  PageDown: 0xff56,
  End: 0xff57,
  Insert: 0xff63,
  ContextMenu: 0xff67,
  NumLock: 0xff7f,
  CapsLock: 0xffe5,
  Delete: 0xffff,
};

/** Left, and right. */
const modifiers: Record<string, readonly [number, number]> = {
  Shift: [0xffe1, 0xffe2],
  Control: [0xffe3, 0xffe4],
  Alt: [0xffe9, 0xffea],
  Meta: [0xffeb, 0xffec],
};

export const sym = { control: 0xffe3, alt: 0xffe9, shift: 0xffe1, meta: 0xffeb, enter: 0xff0d, tab: 0xff09 } as const;

/** The key that has a character on it. */
export function symOfCharacter(character: string): number {
  const code = character.codePointAt(0) as number;
  if (code === 10 || code === 13) return sym.enter;
  if (code === 9) return sym.tab;
  return (code >= 0x20 && code <= 0x7e) || (code >= 0xa0 && code <= 0xff) ? code : 0x01000000 | code;
}

export interface KeySaid {
  key: string;
  code: string;
  location: number;
}

/** @returns Undefined for what is no key by itself: a dead one, or a part of what an input method makes. */
export function symOf({ key, location }: KeySaid): number | undefined {
  const modifier = modifiers[key];
  if (modifier) return modifier[location === 2 ? 1 : 0];
  if (named[key] !== undefined) return named[key];
  const f = /^F(\d{1,2})$/.exec(key);
  if (f) return 0xffbd + Number(f[1]);
  return [...key].length === 1 ? symOfCharacter(key) : undefined;
}

const rows: readonly [number, string][] = [
  [0x01, "Escape Digit1 Digit2 Digit3 Digit4 Digit5 Digit6 Digit7 Digit8 Digit9 Digit0 Minus Equal Backspace"],
  [0x0f, "Tab KeyQ KeyW KeyE KeyR KeyT KeyY KeyU KeyI KeyO KeyP BracketLeft BracketRight Enter"],
  [0x1d, "ControlLeft KeyA KeyS KeyD KeyF KeyG KeyH KeyJ KeyK KeyL Semicolon Quote Backquote"],
  [0x2a, "ShiftLeft Backslash KeyZ KeyX KeyC KeyV KeyB KeyN KeyM Comma Period Slash ShiftRight NumpadMultiply"],
  [0x38, "AltLeft Space CapsLock F1 F2 F3 F4 F5 F6 F7 F8 F9 F10 NumLock ScrollLock"],
  [0x47, "Numpad7 Numpad8 Numpad9 NumpadSubtract Numpad4 Numpad5 Numpad6 NumpadAdd Numpad1 Numpad2 Numpad3 Numpad0"],
  [0x53, "NumpadDecimal"],
  [0x56, "IntlBackslash F11 F12"],
  [0x70, "KanaMode"],
  [0x73, "IntlRo"],
  [0x79, "Convert"],
  [0x7b, "NonConvert"],
  [0x7d, "IntlYen"],
];

/** Those with a prefix are counted from 0x80 on. */
const prefixed: Record<string, number> = {
  NumpadEnter: 0x1c,
  ControlRight: 0x1d,
  NumpadDivide: 0x35,
  PrintScreen: 0x37,
  AltRight: 0x38,
  Home: 0x47,
  ArrowUp: 0x48,
  PageUp: 0x49,
  ArrowLeft: 0x4b,
  ArrowRight: 0x4d,
  End: 0x4f,
  ArrowDown: 0x50,
  PageDown: 0x51,
  Insert: 0x52,
  Delete: 0x53,
  MetaLeft: 0x5b,
  MetaRight: 0x5c,
  ContextMenu: 0x5d,
  Pause: 0x46,
};

const places = new Map<string, number>(
  rows.flatMap(([first, names]) => names.split(" ").map((name, i): [string, number] => [name, first + i])),
);
for (const [name, place] of Object.entries(prefixed)) places.set(name, 0x80 | place);

/** @returns 0 where the place is not known. */
export const placeOf = (code: string): number => places.get(code) ?? 0;

/** Presses of several keys at once, that a browser or its system would keep for itself. */
export const combinations: readonly { words: string; syms: readonly number[] }[] = [
  { words: "Ctrl Alt Del", syms: [sym.control, sym.alt, 0xffff] },
  { words: "Alt Tab", syms: [sym.alt, sym.tab] },
  { words: "Alt F4", syms: [sym.alt, 0xffc1] },
  { words: "Ctrl W", syms: [sym.control, 0x77] },
  { words: "Ctrl T", syms: [sym.control, 0x74] },
  { words: "Ctrl Esc", syms: [sym.control, 0xff1b] },
  { words: "System key", syms: [sym.meta] },
  { words: "Print", syms: [0xff61] },
  { words: "Ctrl Alt F1", syms: [sym.control, sym.alt, 0xffbe] },
  { words: "Ctrl Alt F7", syms: [sym.control, sym.alt, 0xffc4] },
];

/** What is pressed here is pressed there under the name that it was pressed with, until it is let go of. */
export class Keyboard {
  readonly #held = new Map<string, { sym: number; place: number }>();

  #byPlace = false;

  constructor(private readonly say: (down: boolean, sym: number, place: number) => void) {}

  /** @param byPlace Whether the place of a key counts, or what this keyboard has on it. */
  count(byPlace: boolean): void {
    this.letGo();
    this.#byPlace = byPlace;
  }

  /** @returns Whether it was a key for the host. */
  down(said: KeySaid): boolean {
    // What a third level key makes is a character of its own; the key itself means nothing on another keyboard.
    if (said.key === "AltGraph" && !this.#byPlace) {
      // On some systems the left Ctrl comes with it.
      this.up({ code: "ControlLeft" });
      return true;
    }
    const place = this.#byPlace ? placeOf(said.code) : 0;
    const name = this.#held.get(said.code)?.sym ?? symOf(said) ?? (place ? 0 : undefined);
    if (name === undefined) return false;
    this.#held.set(said.code, { sym: name, place });
    this.say(true, name, place);
    return true;
  }

  up({ code }: { code: string }): void {
    const held = this.#held.get(code);
    if (!held) return;
    this.#held.delete(code);
    this.say(false, held.sym, held.place);
  }

  /** Nothing is held any more: the window has lost its keyboard. */
  letGo(): void {
    for (const code of [...this.#held.keys()]) this.up({ code });
  }

  press(syms: readonly number[]): void {
    for (const one of syms) this.say(true, one, 0);
    for (const one of [...syms].reverse()) this.say(false, one, 0);
  }

  type(text: string): void {
    for (const character of text.replaceAll("\r\n", "\n")) this.press([symOfCharacter(character)]);
  }
}
