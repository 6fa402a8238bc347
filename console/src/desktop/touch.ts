/** What fingers come to, in the window's own pixels. */
export interface TouchActs {
  /** The mouse is there, with these buttons pressed; 1 is the left one, 4 the right. */
  mouse(x: number, y: number, buttons: number): void;
  /** The wheel is turned by one notch there. */
  wheel(x: number, y: number, way: "up" | "down" | "left" | "right"): void;
  /** What is shown is to be so many times as large. */
  zoom(by: number): void;
}

interface Finger {
  x: number;
  y: number;
  fromX: number;
  fromY: number;
}

/** A finger that moves less is held still, and less of a turn or a pinch is none. */
const STILL = 10;
const PINCH = 24;
const NOTCH = 28;

/** A finger that is held for so long means the right button. */
export const HOLD = 500;

/**
 * Fingers on a screen as a mouse. One that taps clicks, one that is held presses the right button, one that moves drags. Two that tap press
 * the right button, two that move turn the wheel, two that spread make larger what is shown.
 */
export class Touches {
  #fingers = new Map<number, Finger>();
  #does: "nothing" | "waits" | "drags" | "two" | "turns" | "pinches" | "spent" = "nothing";
  #timer: ReturnType<typeof setTimeout> | undefined;
  #turned = { x: 0, y: 0 };
  #apart = 0;

  constructor(private readonly acts: TouchActs) {}

  down(id: number, x: number, y: number): void {
    this.#fingers.set(id, { x, y, fromX: x, fromY: y });
    clearTimeout(this.#timer);
    if (this.#fingers.size === 1) {
      this.#does = "waits";
      this.acts.mouse(x, y, 0);
      this.#timer = setTimeout(() => this.#held(), HOLD);
    } else if (this.#fingers.size === 2) {
      if (this.#does === "drags") this.#first((f) => this.acts.mouse(f.x, f.y, 0));
      for (const finger of this.#fingers.values()) [finger.fromX, finger.fromY] = [finger.x, finger.y];
      this.#does = this.#does === "spent" ? "spent" : "two";
      this.#turned = { x: 0, y: 0 };
      this.#apart = this.#distance();
    } else {
      this.#does = "spent";
    }
  }

  move(id: number, x: number, y: number): void {
    const finger = this.#fingers.get(id);
    if (!finger) return;
    const [byX, byY] = [x - finger.x, y - finger.y];
    [finger.x, finger.y] = [x, y];
    if (this.#does === "waits" && Math.hypot(x - finger.fromX, y - finger.fromY) > STILL) {
      clearTimeout(this.#timer);
      this.#does = "drags";
      this.acts.mouse(finger.fromX, finger.fromY, 1);
    }
    if (this.#does === "drags") this.acts.mouse(x, y, 1);
    if (this.#does === "two") {
      if (Math.abs(this.#distance() - this.#apart) > PINCH) this.#does = "pinches";
      else if ([...this.#fingers.values()].every((f) => Math.hypot(f.x - f.fromX, f.y - f.fromY) > STILL))
        this.#does = "turns";
    }
    if (this.#does === "pinches") {
      const now = this.#distance();
      if (this.#apart > 0 && now > 0) this.acts.zoom(now / this.#apart);
      this.#apart = now;
    }
    // Both fingers tell of the same way.
    if (this.#does === "turns") this.#turn(byX / 2, byY / 2);
  }

  up(id: number): void {
    const finger = this.#fingers.get(id);
    if (!finger) return;
    clearTimeout(this.#timer);
    if (this.#does === "waits") this.#click(finger.x, finger.y, 1);
    if (this.#does === "drags") this.acts.mouse(finger.x, finger.y, 0);
    if (this.#does === "two") {
      const { x, y } = this.#middle();
      this.#click(x, y, 4);
    }
    this.#fingers.delete(id);
    this.#does = this.#fingers.size === 0 ? "nothing" : "spent";
  }

  /** What the browser has taken for itself: nothing is pressed any more. */
  cancel(id: number): void {
    if (this.#does === "drags") this.#first((f) => this.acts.mouse(f.x, f.y, 0));
    clearTimeout(this.#timer);
    this.#fingers.delete(id);
    this.#does = this.#fingers.size === 0 ? "nothing" : "spent";
  }

  #held(): void {
    if (this.#does !== "waits") return;
    this.#does = "spent";
    this.#first((f) => this.#click(f.x, f.y, 4));
  }

  #click(x: number, y: number, button: number): void {
    this.acts.mouse(x, y, button);
    this.acts.mouse(x, y, 0);
  }

  /** What is under the fingers goes with them. */
  #turn(x: number, y: number): void {
    this.#turned.x += x;
    this.#turned.y += y;
    const at = this.#middle();
    for (; this.#turned.y >= NOTCH; this.#turned.y -= NOTCH) this.acts.wheel(at.x, at.y, "up");
    for (; this.#turned.y <= -NOTCH; this.#turned.y += NOTCH) this.acts.wheel(at.x, at.y, "down");
    for (; this.#turned.x >= NOTCH; this.#turned.x -= NOTCH) this.acts.wheel(at.x, at.y, "left");
    for (; this.#turned.x <= -NOTCH; this.#turned.x += NOTCH) this.acts.wheel(at.x, at.y, "right");
  }

  #first(what: (finger: Finger) => void): void {
    const [first] = this.#fingers.values();
    if (first) what(first);
  }

  #middle(): { x: number; y: number } {
    const all = [...this.#fingers.values()];
    const mean = (of: (f: Finger) => number) => all.reduce((sum, f) => sum + of(f), 0) / Math.max(1, all.length);
    return { x: mean((f) => f.x), y: mean((f) => f.y) };
  }

  #distance(): number {
    const [a, b] = [...this.#fingers.values()];
    return a && b ? Math.hypot(a.x - b.x, a.y - b.y) : 0;
  }
}
