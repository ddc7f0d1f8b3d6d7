import { meterHeight, PAD } from "../bench/drawStrands";
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

const LABELS = 140;

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
    const y = 40 + 20 * n;
    g.fillStyle = ink.ink;
    g.fillText(row.label, 4, y + 14);
    const most = Math.max(...row.place);
    row.place.forEach((v, k) => {
      if (v <= 1e-6) return;
      g.globalAlpha = 0.25 + 0.75 * Math.min(1, v / most);
      g.fillStyle = ink.right;
      g.fillRect(x(data.frames[k]!) - bar / 2, y + 4, bar, 12);
    });
    g.globalAlpha = 1;
  });
  g.fillStyle = ink.ink;
  g.fillRect(x(p.frame) - 0.75, 0, 1.5, p.height);
}
