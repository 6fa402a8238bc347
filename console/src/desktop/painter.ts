import type { Stroke } from "./rfb";

type Context = CanvasRenderingContext2D | OffscreenCanvasRenderingContext2D;

/** Draws what a host shows: bitmaps are unpacked side by side, and drawn in their order with all the rest. */
export class Painter {
  #last = Promise.resolve();

  constructor(
    readonly context: Context,
    private readonly events: { size(width: number, height: number): void; drawn(): void; failed(e: unknown): void },
  ) {}

  draw(strokes: readonly Stroke[]): void {
    const bitmaps = strokes.map((s) =>
      s.kind === "jpeg" ? createImageBitmap(new Blob([s.data], { type: "image/jpeg" })) : undefined,
    );
    this.after(async () => this.#paint(strokes, await Promise.all(bitmaps)));
  }

  /** Once everything before it is drawn. */
  after(act: () => void | Promise<void>): void {
    this.#last = this.#last.then(act).catch(this.events.failed);
  }

  /** Shows nothing any more. */
  clear(): void {
    this.after(() => {
      this.context.fillStyle = "black";
      this.context.fillRect(0, 0, this.context.canvas.width, this.context.canvas.height);
    });
  }

  /** The picture as it stands once everything so far is drawn. */
  still(): Promise<ImageBitmap> {
    const taken = this.#last.then(() => createImageBitmap(this.context.canvas));
    this.#last = taken.then(
      () => undefined,
      () => undefined,
    );
    return taken;
  }

  /** Shows a picture instead of what stood there. */
  put(still: ImageBitmap): void {
    this.after(() => {
      const { canvas } = this.context;
      [canvas.width, canvas.height] = [still.width, still.height];
      this.events.size(still.width, still.height);
      this.context.drawImage(still, 0, 0);
      this.events.drawn();
    });
  }

  /** Until everything so far is drawn. */
  drawn(): Promise<void> {
    return this.#last;
  }

  #paint(strokes: readonly Stroke[], bitmaps: readonly (ImageBitmap | undefined)[]): void {
    const { canvas } = this.context;
    strokes.forEach((stroke, i) => {
      if (stroke.kind === "size") {
        canvas.width = stroke.width;
        canvas.height = stroke.height;
        this.events.size(stroke.width, stroke.height);
        return;
      }
      const { x, y, width, height } = stroke.part;
      if (stroke.kind === "pixels")
        this.context.putImageData(new ImageData(new Uint8ClampedArray(stroke.pixels.buffer), width, height), x, y);
      else if (stroke.kind === "copy")
        this.context.drawImage(canvas, stroke.fromX, stroke.fromY, width, height, x, y, width, height);
      else if (stroke.kind === "fill") {
        this.context.fillStyle = stroke.colour;
        this.context.fillRect(x, y, width, height);
      } else {
        const bitmap = bitmaps[i];
        if (bitmap) this.context.drawImage(bitmap, x, y);
        bitmap?.close();
      }
    });
    this.events.drawn();
  }
}
