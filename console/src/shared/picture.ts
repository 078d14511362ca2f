/** A line of a picture. */
export interface PictureLine {
  text: string;
  strong?: boolean;
}

const size = 15;
const height = 22;
const edge = 24;
const widest = 1600;

/** Draws the cells of a mode as the tally grid has them; returns how much room they take. */
function grid(on: CanvasRenderingContext2D, mode: string, x: number, y: number): number {
  const m = Number.parseInt(mode, 8);
  const cell = 16;
  const step = 24;
  on.lineWidth = 1.2;
  for (let c = 0; c < 3; c++)
    for (let r = 0; r < 3; r++) {
      on.strokeRect(x + c * step, y + r * step, cell, cell);
      if (m & (0o400 >> (3 * c + r))) on.fillRect(x + c * step, y + r * step, cell, cell);
    }
  return 3 * step;
}

/** Returns lines as a picture (PNG), in the colours of the page, the grid of a mode before them if there is one. */
export async function pictureOf(lines: readonly PictureLine[], mode?: string): Promise<Blob> {
  const canvas = document.createElement("canvas");
  const on = canvas.getContext("2d");
  if (!on) throw new Error("This browser draws no pictures.");
  const font = (strong = false) => `${strong ? "bold " : ""}${size}px ui-monospace, "DejaVu Sans Mono", monospace`;
  const left = edge + (mode ? 96 : 0);
  const width = Math.max(
    ...lines.map((l) => {
      on.font = font(l.strong);
      return on.measureText(l.text).width;
    }),
  );
  canvas.width = Math.min(Math.ceil(width) + left + edge, widest);
  canvas.height = Math.max(lines.length * height, mode ? 80 : 0) + 2 * edge;

  const style = getComputedStyle(document.documentElement);
  on.fillStyle = style.getPropertyValue("--color-paper");
  on.fillRect(0, 0, canvas.width, canvas.height);
  on.fillStyle = on.strokeStyle = style.getPropertyValue("--color-ink");
  on.textBaseline = "top";
  if (mode) grid(on, mode, edge, edge);
  for (const [i, l] of lines.entries()) {
    on.font = font(l.strong);
    on.fillText(l.text, left, edge + i * height, canvas.width - left - edge);
  }
  return new Promise((done, fail) => {
    canvas.toBlob((b) => (b ? done(b) : fail(new Error("This browser draws no pictures."))), "image/png");
  });
}
