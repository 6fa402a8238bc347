import { useEffect, useRef, useState } from "react";
import type { DesktopLine, DesktopSeen } from "./desktopLine";
import type { Part } from "./rfb";
import { Touches } from "./touch";

/** How large the host's screen is shown: as it fits, or so many times as large as it is. */
export type Size = "fit" | number;

/** Turns of a wheel are told as presses of buttons; so far it has to turn for one. */
const NOTCH = 60;
const wheelButtons = { up: 8, down: 16, left: 32, right: 64 } as const;

/** A browser counts the right button before the middle one. */
const buttonsOf = (e: { buttons: number }) =>
  (e.buttons & 1 ? 1 : 0) | (e.buttons & 4 ? 2 : 0) | (e.buttons & 2 ? 4 : 0);

/** The host's screen itself: shows it in its proportions, and takes the mouse and the keyboard to it where one controls. */
export function Glass({
  line,
  seen,
  canvas,
  size,
  part,
  label,
  onZoom,
}: {
  line: DesktopLine | undefined;
  seen: DesktopSeen;
  canvas: HTMLCanvasElement | undefined;
  size: Size;
  part: Part | undefined;
  label: string;
  /** Two fingers make it so many times as large as it is shown now. */
  onZoom: (shown: number, by: number) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const pane = useRef<HTMLDivElement>(null);
  const keys = useRef<HTMLTextAreaElement>(null);
  const turned = useRef({ x: 0, y: 0 });
  const [room, setRoom] = useState({ width: 0, height: 0 });
  const shown = part ?? { x: 0, y: 0, width: seen.width, height: seen.height };
  const scale =
    size === "fit"
      ? Math.min(room.width / (shown.width || 1), room.height / (shown.height || 1))
      : size / window.devicePixelRatio;

  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setRoom({ width: element.clientWidth, height: element.clientHeight }));
    watch.observe(element);
    return () => watch.disconnect();
  }, []);

  useEffect(() => {
    if (canvas) pane.current?.append(canvas);
  }, [canvas]);

  useEffect(() => {
    if (!canvas) return;
    canvas.style.width = `${String(seen.width * scale)}px`;
    canvas.style.height = `${String(seen.height * scale)}px`;
    canvas.style.left = `${String(-shown.x * scale)}px`;
    canvas.style.top = `${String(-shown.y * scale)}px`;
    // Every pixel of it is sharp where it is shown larger than it is.
    canvas.style.imageRendering = scale * window.devicePixelRatio >= 1.5 ? "pixelated" : "auto";
  }, [canvas, seen.width, seen.height, scale, shown.x, shown.y]);

  // The browser scrolls unless it is told not to, which React's own handlers can't.
  const control = line?.control ?? false;
  useEffect(() => {
    const element = pane.current;
    if (!element || !control) return;
    const keep = (e: WheelEvent) => e.preventDefault();
    element.addEventListener("wheel", keep, { passive: false });
    return () => element.removeEventListener("wheel", keep);
  }, [control]);

  const place = (e: { clientX: number; clientY: number }) => {
    const at = pane.current?.getBoundingClientRect() ?? { left: 0, top: 0 };
    const clamp = (value: number, most: number) => Math.max(0, Math.min(most - 1, Math.floor(value)));
    return {
      x: shown.x + clamp((e.clientX - at.left) / scale, shown.width),
      y: shown.y + clamp((e.clientY - at.top) / scale, shown.height),
    };
  };
  const mouse = (e: React.PointerEvent) => {
    const { x, y } = place(e);
    line?.mouse(x, y, buttonsOf(e));
  };
  const turn = (x: number, y: number, buttons: number, button: number) => {
    line?.mouse(x, y, buttons | button);
    line?.mouse(x, y, buttons);
  };
  const acts = {
    mouse: (clientX: number, clientY: number, buttons: number) => {
      const { x, y } = place({ clientX, clientY });
      line?.mouse(x, y, buttons);
    },
    wheel: (clientX: number, clientY: number, way: keyof typeof wheelButtons) => {
      const { x, y } = place({ clientX, clientY });
      turn(x, y, 0, wheelButtons[way]);
    },
    zoom: (by: number) => onZoom(scale * window.devicePixelRatio, by),
  };
  const latest = useRef(acts);
  useEffect(() => {
    latest.current = acts;
  });
  const [touches] = useState(
    () =>
      new Touches({
        mouse: (x, y, buttons) => latest.current.mouse(x, y, buttons),
        wheel: (x, y, way) => latest.current.wheel(x, y, way),
        zoom: (by) => latest.current.zoom(by),
      }),
  );
  const wheel = (e: React.WheelEvent) => {
    const { x, y } = place(e);
    const perLine = e.deltaMode === 0 ? 1 : NOTCH / 2;
    turned.current.x += e.deltaX * perLine;
    turned.current.y += e.deltaY * perLine;
    const notch = (button: number) => turn(x, y, buttonsOf(e), button);
    for (; turned.current.y >= NOTCH; turned.current.y -= NOTCH) notch(wheelButtons.down);
    for (; turned.current.y <= -NOTCH; turned.current.y += NOTCH) notch(wheelButtons.up);
    for (; turned.current.x >= NOTCH; turned.current.x -= NOTCH) notch(wheelButtons.right);
    for (; turned.current.x <= -NOTCH; turned.current.x += NOTCH) notch(wheelButtons.left);
  };
  const cursor = seen.cursor;
  return (
    <div className="glass-box" ref={box} data-scrolls={size !== "fit" || undefined}>
      <div
        ref={pane}
        className="glass"
        style={{
          width: shown.width * scale,
          height: shown.height * scale,
          // Fingers are the host's, where one controls; where one looks on, they move the page.
          touchAction: control ? "none" : "auto",
          cursor: !control
            ? "default"
            : cursor?.png
              ? `url(data:image/png;base64,${cursor.png}) ${String(cursor.hotX)} ${String(cursor.hotY)}, default`
              : cursor
                ? "none"
                : "default",
        }}
        {...(control
          ? {
              onPointerDown: (e: React.PointerEvent) => {
                keys.current?.focus();
                e.currentTarget.setPointerCapture(e.pointerId);
                e.preventDefault();
                if (e.pointerType === "touch") touches.down(e.pointerId, e.clientX, e.clientY);
                else mouse(e);
              },
              onPointerMove: (e: React.PointerEvent) => {
                if (e.pointerType === "touch") touches.move(e.pointerId, e.clientX, e.clientY);
                else mouse(e);
              },
              onPointerUp: (e: React.PointerEvent) => {
                if (e.pointerType === "touch") touches.up(e.pointerId);
                else mouse(e);
              },
              onPointerCancel: (e: React.PointerEvent) => touches.cancel(e.pointerId),
              onWheel: wheel,
              onContextMenu: (e: React.MouseEvent) => e.preventDefault(),
            }
          : {})}
      >
        {!control && seen.pointer && (
          <span
            className="glass-pointer"
            style={{
              left: (seen.pointer.x - shown.x - (cursor?.png ? cursor.hotX : 0)) * scale,
              top: (seen.pointer.y - shown.y - (cursor?.png ? cursor.hotY : 0)) * scale,
            }}
          >
            {cursor?.png && <img src={`data:image/png;base64,${cursor.png}`} alt="" style={{ zoom: scale }} />}
          </span>
        )}
        {control && (
          <textarea
            ref={keys}
            className="glass-keys"
            aria-label={label}
            autoFocus
            autoCapitalize="off"
            autoComplete="off"
            autoCorrect="off"
            spellCheck={false}
            onKeyDown={(e) => {
              // What an input method is at work on is no key yet.
              if (e.nativeEvent.isComposing || e.key === "Dead" || e.key === "Process") return;
              if (isWayOut(e)) {
                document.getElementById("desktop-tools")?.querySelector("button")?.focus();
                e.preventDefault();
                return;
              }
              if (line?.keyboard.down({ key: e.key, code: e.code, location: e.location })) e.preventDefault();
            }}
            onKeyUp={(e) => {
              line?.keyboard.up({ code: e.code });
              e.preventDefault();
            }}
            onInput={(e) => {
              const { isComposing, data } = e.nativeEvent as InputEvent;
              if (isComposing) return;
              // Text that no key of this keyboard made: from a phone, a list of signs, or what one says.
              if (data) line?.keyboard.type(data);
              e.currentTarget.value = "";
            }}
            onCompositionEnd={(e) => {
              if (e.data) line?.keyboard.type(e.data);
              e.currentTarget.value = "";
            }}
            onBlur={() => line?.keyboard.letGo()}
          />
        )}
      </div>
    </div>
  );
}

/** Ctrl Shift ↑ leads out of the host's screen, as out of a shell. */
const isWayOut = (e: React.KeyboardEvent) => e.ctrlKey && e.shiftKey && e.code === "ArrowUp";
