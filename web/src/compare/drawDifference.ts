import { meterHeight } from "../bench/timeline/drawMeter";
import { PAD } from "../bench/timeline/scale";
import { mm } from "../shared/format";
import type { Compared } from "../shared/api";
import type { Ink } from "../shared/theme";

interface Picture {
  data: Compared;
  rows: Compared["parts"];
  frame: number;
  width: number;
  height: number;
  ink: Ink;
}

const LABELS = 190;
/** Heights of what all joints do together, and of a part's row. */
const ALL = 40;
const ROW = 22;

export const heightFor = (rows: number) => ALL + ROW * rows;

function scale(data: Compared, width: number) {
  const first = data.frames[0]!;
  const span = Math.max(data.frames.length - 1, 1);
  const unit = (width - LABELS - 2 * PAD) / span;
  return { x: (f: number) => LABELS + PAD + (f - first) * unit, frame: (x: number) => Math.round(first + (x - LABELS - PAD) / unit), unit };
}

export const frameAt = (x: number, data: Compared, width: number) => scale(data, width).frame(x);

/** The greatest difference of any joint as bars on a log scale, then a row for each part that differs most. */
export function drawDifference(g: CanvasRenderingContext2D, p: Picture) {
  const { data, ink } = p;
  const { x, unit } = scale(data, p.width);
  g.clearRect(0, 0, p.width, p.height);
  const bar = Math.max(1, unit - 0.5);
  g.font = "12px 'Figtree Variable', sans-serif";
  g.fillStyle = ink.ink;
  g.fillText("any joint", 4, 24);
  data.place.forEach((v, k) => {
    const h = meterHeight(v, 38);
    if (v <= 1e-6) return;
    g.fillStyle = ink.accent;
    g.fillRect(x(data.frames[k]!) - bar / 2, 38 - h, bar, h);
  });
  g.strokeStyle = ink.line;
  g.beginPath();
  g.moveTo(LABELS, 38.5);
  g.lineTo(p.width, 38.5);
  g.stroke();
  p.rows.forEach((row, n) => {
    const foot = ALL + ROW * (n + 1) - 2;
    g.fillStyle = ink.ink;
    g.fillText(row.label, 4, foot - 5);
    g.fillStyle = ink.soft;
    const most = mm(Math.max(...row.place));
    g.fillText(most, LABELS - 8 - g.measureText(most).width, foot - 5);
    g.fillStyle = ink.right;
    row.place.forEach((v, k) => {
      if (v <= 1e-6) return;
      // The same scale for all, so that sizes tell apart from row to row too.
      const h = meterHeight(v, ROW);
      g.fillRect(x(data.frames[k]!) - bar / 2, foot - h, bar, h);
    });
    g.fillStyle = ink.line;
    g.fillRect(LABELS, foot + 0.5, p.width - LABELS, 1);
  });
  g.fillStyle = ink.ink;
  g.fillRect(x(p.frame) - 0.75, 0, 1.5, p.height);
}

/** The whole frame at which two takes are farthest apart: the proof's own may lie between two, of which one shows nothing. */
export function farthest(data: Compared): number {
  const most = (of: number[]) => of.indexOf(Math.max(...of));
  return data.frames[Math.max(...data.place) > 1e-6 ? most(data.place) : most(data.turn)] ?? data.frames[0]!;
}

/** The share of the greatest difference at a frame from which a part is looked at. */
const SEEN = 0.2;

/** What the camera is to bring into the picture at a frame: the body, and whoever differs there. */
export function framingAt(data: Compared, frame: number) {
  const apart = (p: Compared["parts"][number]) => p.place[frame - data.frames[0]!] ?? 0;
  const most = Math.max(0, ...data.parts.map(apart));
  const seen = data.parts.filter((p) => most > 0 && apart(p) >= SEEN * most);
  return { what: "body" as const, more: [...new Set(seen.map((p) => p.member))] };
}
