import type { MeterData, Strand, TakeInfo } from "../shared/api";
import type { Ink } from "../shared/theme";
import { drawPlanks, PLANK, type Dragged } from "./planks";
import { BOTH, driverAt, systemLabel, valueAt, type PartRef, type Stretch } from "./state";

export interface Row {
  strand: Strand;
  y: number;
  height: number;
}

/** What keys drive in more ways than one gets tall rows, everything else thin ones; planks lie under both. */
export function layout(strands: Strand[]): Row[] {
  let y = 0;
  return strands.map((strand) => {
    const height = (strand.main ? 40 : 17) + planks(strand);
    const row = { strand, y, height };
    y += height;
    return row;
  });
}

const planks = (strand: Strand) => (strand.contacts.length ? PLANK : 0);

/** First what is handed over most. */
export function ordered(info: TakeInfo): Strand[] {
  const rank = (s: Strand) => (s.main ? 0 : 1);
  return [...info.strands].sort((a, b) => rank(a) - rank(b));
}

export interface Scale {
  x: (frame: number) => number;
  frame: (x: number) => number;
}

export const PAD = 10;

export function scaleOf(shown: [number, number], width: number): Scale {
  const span = Math.max(shown[1] - shown[0], 1);
  const unit = (width - 2 * PAD) / span;
  return { x: (f) => PAD + (f - shown[0]) * unit, frame: (x) => shown[0] + (x - PAD) / unit };
}

interface Picture {
  info: TakeInfo;
  rows: Row[];
  tried: Strand[];
  shown: [number, number];
  stretch: Stretch | null;
  focus: PartRef | null;
  dragged: Dragged | null;
  ink: Ink;
  width: number;
  height: number;
}

function hue(strand: Strand, ink: Ink): string {
  return strand.side === "left" ? ink.left : strand.side === "right" ? ink.right : ink.middle;
}

/** How far the rope of a row runs up and down, and how much it leaves below. */
const room = (row: Row) => {
  const under = planks(row.strand);
  return row.strand.main ? { swing: row.height - under - 25, foot: under + 16 } : { swing: row.height - under - 9, foot: under + 5 };
};

/** Height of the rope: the first system lies lowest, each further one a level higher. */
function rope(strand: Strand, row: Row, f: number): number {
  const { swing, foot } = room(row);
  const levels = Math.max(strand.systems.length - 1, 1);
  return row.y + row.height - foot - ((valueAt(strand.level, f) ?? 0) / levels) * swing;
}

export function drawStrands(g: CanvasRenderingContext2D, p: Picture) {
  const { info, ink, rows } = p;
  const scale = scaleOf(p.shown, p.width);
  g.clearRect(0, 0, p.width, p.height);
  const from = Math.max(info.first, Math.floor(p.shown[0]));
  const to = Math.min(info.last, Math.ceil(p.shown[1]));
  for (const row of rows) {
    const strand = row.strand;
    const mine = p.focus?.member === strand.member && p.focus.part === strand.part;
    if (mine) {
      g.fillStyle = ink.accentSoft;
      g.fillRect(0, row.y, p.width, row.height);
    }
    g.fillStyle = ink.line;
    g.fillRect(0, row.y + row.height - 1, p.width, 1);
    const chosen = p.stretch?.parts.some((q) => q.member === strand.member && q.part === strand.part);
    if (chosen && p.stretch) {
      g.fillStyle = ink.accent;
      g.globalAlpha = 0.16;
      g.fillRect(scale.x(p.stretch.first), row.y, scale.x(p.stretch.last) - scale.x(p.stretch.first), row.height - 1);
      g.globalAlpha = 1;
      g.strokeStyle = ink.accent;
      g.lineWidth = 1.5;
      g.strokeRect(scale.x(p.stretch.first), row.y + 0.75, scale.x(p.stretch.last) - scale.x(p.stretch.first), row.height - 2.5);
    }
    if (strand.systems.length > 1) {
      drawRope(g, p, row, strand, hue(strand, ink), strand.main ? 3 : 1.5, from, to, scale);
      const tried = p.tried.find((t) => t.member === strand.member && t.part === strand.part);
      if (tried && chosen) drawRope(g, p, row, tried, ink.accent, 2, from, to, scale, true);
    }
    for (const follow of strand.follows) {
      const h = strand.main ? 9 : 4;
      const y = row.y + row.height - planks(strand) - h - 1.5;
      // A tether counts only where the system of its control drives; elsewhere its bar is an outline.
      g.fillStyle = hue(strand, ink);
      g.strokeStyle = hue(strand, ink);
      g.lineWidth = 0.8;
      const live = (f: number) => [follow.system, BOTH].includes(driverAt(strand, f));
      let start = Math.max(follow.first, from);
      for (let f = start + 1; f <= Math.min(follow.last, to) + 1; f++) {
        const ends = f > Math.min(follow.last, to);
        if (!ends && live(f) === live(start)) continue;
        const x0 = scale.x(start);
        const x1 = scale.x(ends ? f - 1 : f);
        g.globalAlpha = live(start) ? 0.22 + 0.2 * follow.weight : 0.5;
        if (live(start)) g.fillRect(x0, y, Math.max(x1 - x0, 2), h);
        else g.strokeRect(x0, y + 0.5, Math.max(x1 - x0, 2), h - 1);
        g.globalAlpha = 1;
        if (strand.main && live(start) && x1 - x0 > 70) {
          g.fillStyle = ink.ink;
          g.font = "9.5px 'Figtree Variable', sans-serif";
          g.fillText(`follows ${follow.anchor}`, Math.max(x0, 0) + 5, y + 8);
          g.fillStyle = hue(strand, ink);
        }
        start = f;
      }
    }
    drawPlanks(g, row, scale, ink, p.dragged, chosen ? p.stretch : null);
    drawKeys(g, row, strand, hue(strand, ink), ink, scale, p.shown);
    for (const finding of strand.findings) {
      const x = scale.x(finding.frame);
      const size = Math.min(row.height - 4, 12 + 6 * Math.log10(Math.max(finding.place * 1000, 1)));
      g.fillStyle = ink.alarm;
      if (finding.last > finding.frame) {
        // A fault that lasts is a fringe over its frames.
        const end = scale.x(finding.last);
        for (let at = x; at < end; at += 7) spike(g, at + 3.5, row.y + row.height - 1, 3, 6);
      }
      spike(g, x, row.y + row.height - 1, 5, size);
      g.font = "700 11px 'Figtree Variable', sans-serif";
      // On a strip of paper of its own, so that it reads over rope and keys.
      g.strokeStyle = mine ? ink.accentSoft : ink.paper;
      g.lineWidth = 4;
      g.lineJoin = "round";
      g.strokeText(finding.short, Math.max(x, 0) + 24, row.y + row.height / 2 + 4);
      g.fillText(finding.short, Math.max(x, 0) + 24, row.y + row.height / 2 + 4);
    }
  }
}

function spike(g: CanvasRenderingContext2D, x: number, foot: number, half: number, size: number) {
  g.beginPath();
  g.moveTo(x - half, foot);
  g.lineTo(x, foot - size);
  g.lineTo(x + half, foot);
  g.fill();
}

function drawRope(g: CanvasRenderingContext2D, p: Picture, row: Row, strand: Strand, color: string, width: number, from: number, to: number, scale: Scale, dashed = false) {
  const step = Math.max(1, Math.floor((to - from) / p.width));
  g.strokeStyle = color;
  g.lineWidth = width;
  g.lineJoin = "round";
  g.setLineDash(dashed ? [5, 3] : []);
  g.beginPath();
  let before: number | null = null;
  for (let f = from; f <= to; f += step) {
    const y = rope(strand, row, f);
    const x = scale.x(f);
    // A stepped change stands upright at its frame.
    if (before === null) g.moveTo(x, y);
    else {
      if (Math.abs(y - before) > (room(row).swing / Math.max(strand.systems.length - 1, 1)) * 0.9) g.lineTo(x, before);
      g.lineTo(x, y);
    }
    before = y;
  }
  g.stroke();
  g.setLineDash([]);
  if (dashed) return;
  // Say in words what drives, at the start of each run.
  g.font = "700 10.5px 'Figtree Variable', sans-serif";
  g.fillStyle = color;
  let word = "";
  for (let f = from; f <= to; f += step) {
    const now = driverAt(strand, f);
    if (now !== word && now !== BOTH && strand.main) {
      const y = rope(strand, row, f);
      // Below the rope where it runs high, above it where it runs low.
      g.fillText(systemLabel(strand, now), scale.x(f) + 5, y < row.y + 14 ? y + 13 : y - 4);
    }
    word = now;
  }
}

function drawKeys(g: CanvasRenderingContext2D, row: Row, strand: Strand, color: string, ink: Ink, scale: Scale, shown: [number, number]) {
  let last = -Infinity;
  for (const key of strand.keys) {
    if (key.time < shown[0] - 1 || key.time > shown[1] + 1) continue;
    const x = scale.x(key.time);
    if (x - last < 1.2 && !key.split) continue;
    last = x;
    const y = strand.systems.length > 1 ? rope(strand, row, Math.round(key.time)) : row.y + (row.height - planks(strand)) / 2 - 3;
    g.fillStyle = ink.sheet;
    g.strokeStyle = color;
    g.lineWidth = 1.4;
    if (key.split) {
      // A split key is a double notch.
      g.fillStyle = color;
      g.fillRect(x - 3.6, y - 6, 2.6, 12);
      g.fillRect(x + 1, y - 6, 2.6, 12);
    } else {
      g.beginPath();
      g.arc(x, y, 2.6, 0, 7);
      g.fill();
      g.stroke();
    }
  }
}

export interface MeterPicture {
  shown: [number, number];
  ink: Ink;
  width: number;
  height: number;
  data: MeterData | undefined;
  tried: MeterData | undefined;
}

/** Millimetres on a log scale: 0.001 at the foot, 1000 at the top. */
export function meterHeight(metres: number, height: number): number {
  const v = Math.log10(Math.max(metres * 1000, 1e-3));
  return ((v + 3) / 6) * (height - 4);
}

export function drawMeter(g: CanvasRenderingContext2D, p: MeterPicture) {
  const scale = scaleOf(p.shown, p.width);
  g.clearRect(0, 0, p.width, p.height);
  g.strokeStyle = p.ink.line;
  g.lineWidth = 1;
  g.fillStyle = p.ink.soft;
  g.font = "10px 'Figtree Variable', sans-serif";
  for (const level of [0.01, 1, 100]) {
    const y = Math.round(p.height - meterHeight(level / 1000, p.height)) + 0.5;
    g.beginPath();
    g.moveTo(0, y);
    g.lineTo(p.width, y);
    g.stroke();
    g.fillText(`${level} mm`, 2, y - 2);
  }
  const line = (data: MeterData, color: string, dashed: boolean) => {
    g.strokeStyle = color;
    g.lineWidth = 1.5;
    g.setLineDash(dashed ? [4, 3] : []);
    g.beginPath();
    data.frames.forEach((f, i) => {
      const y = p.height - 2 - meterHeight(data.speed[i]!, p.height);
      if (i === 0) g.moveTo(scale.x(f), y);
      else g.lineTo(scale.x(f), y);
    });
    g.stroke();
    g.setLineDash([]);
  };
  const bars = (data: MeterData, color: string, shift: number) => {
    g.fillStyle = color;
    data.frames.forEach((f, i) => {
      const h = meterHeight(data.pose[i]!, p.height);
      if (h > 1) g.fillRect(scale.x(f) - 2.5 + shift, p.height - 2 - h, 5, h);
    });
  };
  if (p.data) {
    bars(p.data, p.ink.alarm, 0);
    line(p.data, p.ink.soft, false);
  }
  if (p.tried) {
    bars(p.tried, p.ink.accent, 4);
    line(p.tried, p.ink.accent, true);
  }
}
