import type { CurveInfo, CurveKey } from "../../shared/api";
import { shownNumber } from "../../shared/format";
import type { Ink } from "../../shared/theme";
import type { KeyRef } from "../state";
import { scaleOf, type Scale } from "../timeline/scale";

/** Where a channel's values stand: `y` of a stored value, and back. */
export interface Height {
  y: (value: number) => number;
  value: (y: number) => number;
}

export interface CurvePicture {
  curves: CurveInfo[];
  before: CurveInfo[];
  picked: KeyRef[];
  shown: [number, number];
  ink: Ink;
  width: number;
  height: number;
  /** Each channel fitted to the whole height, for channels of different units or sizes. */
  own: boolean;
}

/** Value of a curve as time leaves t: the cubic Hermite of the stored slopes. */
export function valueOf(curve: CurveInfo, t: number): number {
  const keys = curve.keys;
  if (!keys.length) return curve.default;
  let k = -1;
  for (let low = 0, high = keys.length - 1; low <= high; ) {
    const middle = (low + high) >> 1;
    if (keys[middle]!.time <= t) {
      k = middle;
      low = middle + 1;
    } else high = middle - 1;
  }
  if (k < 0) return keys[0]!.arriving;
  const a = keys[k]!;
  const b = keys[k + 1];
  if (!b || a.kind === 0) return a.leaving;
  const h = b.time - a.time;
  const s = (t - a.time) / h;
  const d = b.arriving - a.leaving;
  if (a.kind === 1) return a.leaving + s * d;
  const m0 = a.slope_out * h;
  const m1 = b.slope_in * h;
  return a.leaving + s * (m0 + s * (3 * d - 2 * m0 - m1 + s * (m0 + m1 - 2 * d)));
}

const MARGIN = 16;

/** Heights of all channels: one for all that share a unit, or each its own. */
export function heightsOf(p: Pick<CurvePicture, "curves" | "before" | "shown" | "height" | "own">): Map<string, Height> {
  const ranges = p.curves.map((c) => {
    const values: number[] = [];
    // What was there before the last operation is to be seen whole, too.
    for (const seen of [c, ...p.before.filter((b) => b.channel === c.channel)]) {
      for (const k of seen.keys) if (k.time >= p.shown[0] - 1 && k.time <= p.shown[1] + 1) values.push(k.arriving, k.leaving);
      for (let i = 0; i <= 64; i++) values.push(valueOf(seen, p.shown[0] + ((p.shown[1] - p.shown[0]) * i) / 64));
    }
    return [Math.min(...values), Math.max(...values)] as const;
  });
  const all = [Math.min(...ranges.map((r) => r[0])), Math.max(...ranges.map((r) => r[1]))] as const;
  const heights = new Map<string, Height>();
  p.curves.forEach((c, i) => {
    const [low, high] = p.own ? ranges[i]! : all;
    const span = Math.max(high - low, c.unit === "m" ? 0.005 : 0.02);
    const middle = (low + high) / 2;
    const scale = (p.height - 2 * MARGIN) / span;
    heights.set(c.channel, { y: (v) => p.height / 2 - (v - middle) * scale, value: (y) => middle - (y - p.height / 2) / scale });
  });
  return heights;
}

/** Channels are told apart by hue and by the shape of their keys. */
export function styleOf(index: number, ink: Ink) {
  const hues = [ink.accent, ink.right, ink.left, ink.alarm, ink.ink, ink.soft];
  return { color: hues[index % hues.length]!, shape: index % 4 };
}

export function drawMark(g: CanvasRenderingContext2D, x: number, y: number, shape: number, r: number) {
  g.beginPath();
  if (shape === 0) g.arc(x, y, r, 0, 7);
  else {
    const turn = [0, Math.PI / 4, 0, Math.PI / 2][shape]!;
    const corners = shape === 3 ? 3 : 4;
    for (let i = 0; i < corners; i++) {
      const a = turn - Math.PI / 2 + (i * 2 * Math.PI) / corners;
      g[i ? "lineTo" : "moveTo"](x + r * 1.25 * Math.cos(a), y + r * 1.25 * Math.sin(a));
    }
    g.closePath();
  }
  g.fill();
  g.stroke();
}

/** Ends of a key's slope handles: a third of the way to its neighbours. */
export function handlesAt(curve: CurveInfo, index: number, scale: Scale, height: Height) {
  const key = curve.keys[index]!;
  const found: { side: "in" | "out"; x: number; y: number }[] = [];
  const before = curve.keys[index - 1];
  const after = curve.keys[index + 1];
  if (before && before.kind === 2) {
    const d = (key.time - before.time) / 3;
    found.push({ side: "in", x: scale.x(key.time - d), y: height.y(key.arriving - key.slope_in * d) });
  }
  if (after && key.kind === 2) {
    const d = (after.time - key.time) / 3;
    found.push({ side: "out", x: scale.x(key.time + d), y: height.y(key.leaving + key.slope_out * d) });
  }
  return found;
}

export function drawCurves(g: CanvasRenderingContext2D, p: CurvePicture) {
  const scale = scaleOf(p.shown, p.width);
  const heights = heightsOf(p);
  g.clearRect(0, 0, p.width, p.height);
  if (!p.own && p.curves[0]) rule(g, p, heights.get(p.curves[0].channel)!, p.curves[0].unit);
  p.curves.forEach((curve, n) => {
    const height = heights.get(curve.channel)!;
    const style = styleOf(n, p.ink);
    const before = p.before.find((b) => b.channel === curve.channel);
    g.lineWidth = 1;
    g.strokeStyle = style.color;
    if (before) {
      g.globalAlpha = 0.5;
      g.setLineDash([3, 3]);
      stroke(g, before, p, scale, height);
      g.setLineDash([]);
      g.globalAlpha = 1;
    }
    g.lineWidth = 2;
    stroke(g, curve, p, scale, height);
    curve.keys.forEach((key, i) => {
      if (key.time < p.shown[0] - 1 || key.time > p.shown[1] + 1) return;
      const chosen = p.picked.some((k) => k.channel === curve.channel && k.time === key.time);
      const x = scale.x(key.time);
      if (chosen) {
        g.lineWidth = 1;
        for (const h of handlesAt(curve, i, scale, height)) {
          g.beginPath();
          g.moveTo(x, height.y(h.side === "in" ? key.arriving : key.leaving));
          g.lineTo(h.x, h.y);
          g.stroke();
          g.fillStyle = p.ink.sheet;
          g.fillRect(h.x - 3.5, h.y - 3.5, 7, 7);
          g.strokeRect(h.x - 3.5, h.y - 3.5, 7, 7);
        }
      }
      g.fillStyle = chosen ? style.color : p.ink.sheet;
      g.lineWidth = 1.6;
      drawMark(g, x, height.y(key.leaving), style.shape, chosen ? 5 : 4);
      if (key.arriving !== key.leaving) drawMark(g, x, height.y(key.arriving), style.shape, 2.5);
      if (key.lock) {
        g.fillStyle = style.color;
        g.font = "700 10px 'Figtree Variable', sans-serif";
        g.fillText("locked", x + 7, height.y(key.leaving) - 6);
      }
    });
  });
}

function stroke(g: CanvasRenderingContext2D, curve: CurveInfo, p: CurvePicture, scale: Scale, height: Height) {
  g.beginPath();
  const splits = curve.keys.filter((k) => k.arriving !== k.leaving || k.kind === 0);
  let next = 0;
  for (let x = 0; x <= p.width; x += 2) {
    const t = scale.frame(x);
    while (next < splits.length && splits[next]!.time < t) {
      // A split or stepped key stands upright at its frame.
      const at = splits[next]!;
      if (x > 0) {
        g.lineTo(scale.x(at.time), height.y(at.arriving));
        g.lineTo(scale.x(at.time), height.y(at.leaving));
      }
      next += 1;
    }
    g[x ? "lineTo" : "moveTo"](x, height.y(valueOf(curve, t)));
  }
  g.stroke();
}

/** Ruled values with their unit. */
function rule(g: CanvasRenderingContext2D, p: CurvePicture, height: Height, unit: string) {
  const low = shownNumber(height.value(p.height), unit);
  const high = shownNumber(height.value(0), unit);
  const span = Math.max(high - low, 1e-6);
  const step = [0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 45, 90, 180, 360, 500, 1000, 2000, 5000].find((s) => span / s <= 5) ?? span / 4;
  g.font = "10px 'Figtree Variable', sans-serif";
  for (let v = Math.ceil(low / step) * step; v <= high; v += step) {
    const y = Math.round(height.y(unit === "rad" ? (v * Math.PI) / 180 : unit === "m" ? v / 1000 : v)) + 0.5;
    g.strokeStyle = p.ink.line;
    g.lineWidth = 1;
    g.beginPath();
    g.moveTo(0, y);
    g.lineTo(p.width, y);
    g.stroke();
    g.fillStyle = p.ink.soft;
    g.fillText(`${Number(v.toFixed(2))}${unit === "rad" ? "°" : unit === "m" ? " mm" : ""}`, 3, y - 3);
  }
}

/** A key with changes made to it, as the server would make them: for the picture while a key is dragged. */
export function withKeys(curves: CurveInfo[], picked: KeyRef[], change: (key: CurveKey) => CurveKey): CurveInfo[] {
  return curves.map((c) => {
    const mine = new Set(picked.filter((k) => k.channel === c.channel).map((k) => k.time));
    return mine.size ? { ...c, keys: c.keys.map((k) => (mine.has(k.time) ? change(k) : k)).sort((a, b) => a.time - b.time) } : c;
  });
}
