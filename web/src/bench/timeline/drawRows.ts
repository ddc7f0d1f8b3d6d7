import type { Strand, TakeInfo } from "../../shared/api";
import type { Ink } from "../../shared/theme";
import { looksOf } from "../layers";
import { BOTH, driverAt, systemLabel, valueAt, type PartRef, type Stretch } from "../state";
import { drawPlanks, triedPlanks, type Dragged } from "./planks";
import { planksHeight, type Row } from "./rows";
import { scaleOf, type Scale, type Span } from "./scale";
import { besideSpike, place, type Rect } from "./words";

interface Picture {
  info: TakeInfo;
  rows: Row[];
  tried: Strand[];
  shown: Span;
  stretch: Stretch | null;
  focus: PartRef | null;
  dragged: Dragged | null;
  ink: Ink;
  width: number;
  height: number;
}

/** What is the same for all that is drawn on one row. */
interface Sheet {
  g: CanvasRenderingContext2D;
  row: Row;
  scale: Scale;
  ink: Ink;
  color: string;
  from: number;
  to: number;
  width: number;
  /** Places where words stand already. */
  words: Rect[];
}

const FONT = "'Figtree Variable', sans-serif";

function hue(strand: Strand, ink: Ink): string {
  return strand.side === "left" ? ink.left : strand.side === "right" ? ink.right : ink.middle;
}

/** Height of a row's bar of what is followed. */
const barHeight = (row: Row) => (row.strand?.follows.length ? (row.height - planksHeight(row.strand) >= 30 ? 10 : 4) : 0);

/** How far the rope of a row runs up and down, and where it lies lowest. */
function room(row: Row): { swing: number; foot: number } {
  const under = planksHeight(row.strand!) + barHeight(row);
  const free = row.height - under;
  return free >= 26 ? { swing: free - 14, foot: row.y + free - 7 } : { swing: Math.max(free - 9, 2), foot: row.y + free - 4 };
}

/** Height of the rope: the first system lies lowest, each further one a level higher. */
function rope(strand: Strand, row: Row, f: number): number {
  const { swing, foot } = room(row);
  return foot - ((valueAt(strand.level, f) ?? 0) / Math.max(strand.systems.length - 1, 1)) * swing;
}

/** Everything on the rows: ropes, what is followed, planks, keys, findings, the stretch in hand. */
export function drawRows(g: CanvasRenderingContext2D, p: Picture) {
  const { info, ink } = p;
  const scale = scaleOf(p.shown, p.width);
  const from = Math.max(info.first, Math.floor(p.shown[0]));
  const to = Math.min(info.last, Math.ceil(p.shown[1]));
  g.clearRect(0, 0, p.width, p.height);
  for (const row of p.rows) {
    const { strand } = row;
    const mine = strand !== null && p.focus?.member === strand.member && p.focus.part === strand.part;
    if (mine) {
      g.fillStyle = ink.accentSoft;
      g.fillRect(0, row.y, p.width, row.height);
    }
    g.fillStyle = ink.line;
    g.fillRect(0, row.y + row.height - 1, p.width, 1);
    const sheet: Sheet = { g, row, scale, ink, color: strand ? hue(strand, ink) : ink.middle, from, to, width: p.width, words: [] };
    const held = strand ? [strand] : row.under;
    const chosen = p.stretch?.parts.some((q) => held.some((s) => q.member === s.member && q.part === s.part)) ?? false;
    if (chosen && p.stretch) drawStretch(sheet, p.stretch);
    drawUnder(sheet);
    if (!strand) continue;
    drawLayers(sheet, strand, info.layers);
    const tried = p.tried.find((t) => t.member === strand.member && t.part === strand.part);
    if (strand.systems.length > 1) {
      drawRope(sheet, strand);
      if (tried && chosen) drawRope({ ...sheet, color: ink.accent }, tried, true);
    }
    drawFollows(sheet, strand);
    drawPlanks(g, row, scale, ink, p.dragged, chosen ? p.stretch : null, chosen ? triedPlanks(tried, strand) : null);
    drawFindings(sheet, strand, mine ? ink.accentSoft : ink.paper);
    // No words hide a key.
    drawKeys(sheet, strand, p.shown);
  }
}

function drawStretch({ g, row, scale, ink }: Sheet, stretch: Stretch) {
  const [a, b] = [scale.x(stretch.first), scale.x(stretch.last)];
  g.fillStyle = ink.accent;
  g.globalAlpha = 0.16;
  g.fillRect(a, row.y, b - a, row.height - 1);
  g.globalAlpha = 1;
  g.strokeStyle = ink.accent;
  g.lineWidth = 1.5;
  g.strokeRect(a, row.y + 0.75, b - a, row.height - 2.5);
}

/** Keys of what is folded away under a row: ticks along its head. */
function drawUnder({ g, row, scale, ink, width }: Sheet) {
  if (!row.under.length) return;
  g.fillStyle = ink.soft;
  g.globalAlpha = 0.55;
  const drawn = new Set<number>();
  for (const s of row.under)
    for (const key of s.keys) {
      const x = Math.round(scale.x(key.time));
      if (x < 0 || x > width || drawn.has(x)) continue;
      drawn.add(x);
      g.fillRect(x - 0.5, row.strand ? row.y + 1 : row.y + row.height / 2 - 3, 1, row.strand ? 4 : 6);
    }
  g.globalAlpha = 1;
}

/** Where layers lie on a row: a line each along its head, told apart by hue and dashes; faint where one is not heard. */
function drawLayers({ g, row, scale }: Sheet, strand: Strand, layers: TakeInfo["layers"]) {
  let y = row.y + 2;
  for (const layer of layers) {
    const mine = layer.parts.find((p) => p.member === strand.member && p.part === strand.part);
    if (!mine || y > row.y + 11) continue;
    const { color, dash } = looksOf(layer.id);
    g.strokeStyle = color;
    g.globalAlpha = layer.heard ? 1 : 0.35;
    g.lineWidth = 2.5;
    g.setLineDash(dash);
    g.beginPath();
    g.moveTo(scale.x(mine.first), y);
    g.lineTo(Math.max(scale.x(mine.last), scale.x(mine.first) + 4), y);
    g.stroke();
    y += 4;
  }
  g.setLineDash([]);
  g.globalAlpha = 1;
}

function drawRope({ g, row, scale, color, from, to, width, words }: Sheet, strand: Strand, dashed = false) {
  const step = Math.max(1, Math.floor((to - from) / Math.max(width, 1)));
  const level = room(row).swing / Math.max(strand.systems.length - 1, 1);
  g.strokeStyle = color;
  g.lineWidth = dashed ? 2 : strand.main ? 3 : 1.5;
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
      if (Math.abs(y - before) > level * 0.9) g.lineTo(x, before);
      g.lineTo(x, y);
    }
    before = y;
  }
  g.stroke();
  g.setLineDash([]);
  if (dashed || room(row).swing < 11) return;
  // Say in words what drives, at the start of each run: below the rope where it runs high, above it where it runs low.
  g.font = `700 10.5px ${FONT}`;
  g.fillStyle = color;
  let word = "";
  for (let f = from; f <= to; f += step) {
    const now = driverAt(strand, f);
    if (now !== word && now !== BOTH && strand.main) {
      const y = rope(strand, row, f);
      const foot = y < row.y + 14 ? y + 13 : y - 4;
      const label = systemLabel(strand, now);
      const x = scale.x(f) + 5;
      const spot = place(words, [{ x0: x, x1: x + g.measureText(label).width + 4, y0: foot - 9, y1: foot + 2 }], 0, width);
      if (spot) g.fillText(label, x, foot);
    }
    word = now;
  }
}

/** Bars of what is followed, as high as each weighs, one on top of the other: full where the system of its control drives,
 * elsewhere an outline. */
function drawFollows({ g, row, scale, ink, color, from, to }: Sheet, strand: Strand) {
  const h = barHeight(row) - 1;
  const y = row.y + row.height - planksHeight(strand) - h - 1.5;
  for (const follow of strand.follows) {
    g.fillStyle = color;
    g.strokeStyle = color;
    g.lineWidth = 0.8;
    const live = (f: number) => [follow.system, BOTH].includes(driverAt(strand, f));
    const end = Math.min(follow.last, to);
    let start = Math.max(follow.first, from);
    for (let f = start + 1; f <= end + 1; f++) {
      if (f <= end && live(f) === live(start)) continue;
      const [x0, x1] = [scale.x(start), scale.x(f > end ? f - 1 : f)];
      g.globalAlpha = live(start) ? 0.42 : 0.5;
      follow.shares.forEach(([at, low, high], k) => {
        const next = follow.shares[k + 1]?.[0] ?? Infinity;
        const [a, b] = [Math.max(scale.x(at), x0), Math.min(next === Infinity ? x1 : scale.x(next), x1)];
        const [top, tall] = [y + h * (1 - high), h * (high - low)];
        if (b <= a && next !== Infinity) return;
        if (live(start)) g.fillRect(a, top, Math.max(b - a, k ? 0 : 2), tall);
        else g.strokeRect(a, top + 0.5, Math.max(b - a, k ? 0 : 2), Math.max(tall - 1, 0));
      });
      g.globalAlpha = 1;
      g.font = `9.5px ${FONT}`;
      const label = follow.says;
      // One line of words fits: that of what lies lowest.
      if (h >= 8 && live(start) && follow.shares[0]?.[1] === 0 && g.measureText(label).width + 10 < x1 - Math.max(x0, 0)) {
        g.fillStyle = ink.ink;
        g.fillText(label, Math.max(x0, 0) + 5, y + h - 1);
        g.fillStyle = color;
      }
      start = f;
    }
  }
}

function drawKeys({ g, row, scale, ink, color }: Sheet, strand: Strand, shown: Span) {
  let last = -Infinity;
  const middle = row.y + (row.height - planksHeight(strand) - barHeight(row)) / 2;
  for (const key of strand.keys) {
    if (key.time < shown[0] - 1 || key.time > shown[1] + 1) continue;
    const x = scale.x(key.time);
    if (x - last < 1.2 && !key.split) continue;
    last = x;
    const y = strand.systems.length > 1 ? rope(strand, row, Math.round(key.time)) : middle;
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

/** Findings as spikes from the foot of their row, those that last with a fringe; their size in words on paper of its own. */
function drawFindings({ g, row, scale, ink, words, width }: Sheet, strand: Strand, paper: string) {
  const foot = row.y + row.height - 1;
  for (const finding of strand.findings) {
    const x = scale.x(finding.frame);
    g.fillStyle = ink.alarm;
    const end = scale.x(finding.last);
    if (finding.last > finding.frame) for (let at = x; at < end; at += 7) spike(g, at + 3.5, foot, 3, 6);
    spike(g, x, foot, 5, Math.min(row.height - 4, 12 + 6 * Math.log10(Math.max(finding.place * 1000, 1))));
    words.push({ x0: x - 4, x1: x + 4, y0: row.y, y1: foot });
  }
  g.font = `700 11px ${FONT}`;
  const times = strand.findings.length ? strand.keys.map((k) => k.time) : [];
  for (const finding of strand.findings) {
    const lanes = [row.y + 2, row.y + (row.height - planksHeight(strand)) / 2 - 6];
    const spots = besideSpike(scale.x(finding.frame), g.measureText(finding.short).width + 4, lanes, 12);
    // The rope and its keys stay to be seen where there is room beside them.
    const crossed = (r: Rect, f: number) => Math.abs(rope(strand, row, Math.round(f)) - (r.y0 + r.y1) / 2) < 9;
    const within = (r: Rect) => times.filter((t) => t > scale.frame(r.x0 - 3) && t < scale.frame(r.x1 + 3));
    const beside = (r: Rect) => ![scale.frame(r.x0), scale.frame(r.x1), ...within(r)].some((f) => crossed(r, f));
    const spot = place(words, spots.filter(beside), 0, width) ?? place(words, spots, 0, width);
    if (!spot) continue;
    g.strokeStyle = paper;
    g.lineWidth = 4;
    g.lineJoin = "round";
    g.strokeText(finding.short, spot.x0 + 2, spot.y1 - 2);
    g.fillStyle = ink.alarm;
    g.fillText(finding.short, spot.x0 + 2, spot.y1 - 2);
  }
}

function spike(g: CanvasRenderingContext2D, x: number, foot: number, half: number, size: number) {
  g.beginPath();
  g.moveTo(x - half, foot);
  g.lineTo(x, foot - size);
  g.lineTo(x + half, foot);
  g.fill();
}
