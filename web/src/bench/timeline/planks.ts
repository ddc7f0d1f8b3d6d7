import type { Plank, Strand } from "../../shared/api";
import { mm } from "../../shared/format";
import type { Ink } from "../../shared/theme";
import type { Row } from "./rows";
import type { Scale } from "./scale";

/** Height that the planks of a row take at its foot. */
export const PLANK = 11;
/** How near a plank's edge the pointer takes hold of it, pixels. */
const NEAR = 5;
/** A slip that is worth seeing from afar, metres. */
const SLIPS = 1e-3;
/** Farther from what it is on than this it is not on it, metres. */
const AWAY = 0.03;

export type Edge = "first" | "last";

/** A plank whose edge is being dragged, with its frames as they would be. */
export interface Dragged {
  id: string;
  edge: Edge;
  first: number;
  last: number;
}

export interface Hit {
  strand: Strand;
  plank: Plank;
  /** The edge under the pointer, if it is one. */
  edge: Edge | null;
}

/** The plank at a point of the strands, if there is one. */
export function plankAt(rows: Row[], scale: Scale, x: number, y: number): Hit | null {
  const row = rows.find((r) => y >= r.y && y < r.y + r.height);
  if (!row?.strand || y < row.y + row.height - PLANK - 1) return null;
  for (const plank of row.strand.contacts) {
    const [a, b] = [scale.x(plank.first), scale.x(plank.last)];
    if (x < a - NEAR || x > b + NEAR) continue;
    // A short plank leaves a piece in its middle to click.
    const near = Math.min(NEAR, Math.max((b - a) / 4, 1.5));
    return { strand: row.strand, plank, edge: x <= a + near ? "first" : x >= b - near ? "last" : null };
  }
  return null;
}

/** Frames of a plank whose edge is taken to a frame: at least one frame long, within the take. */
export function draggedTo(plank: Plank, edge: Edge, frame: number, take: { first: number; last: number }): Dragged {
  const at = Math.min(Math.max(Math.round(frame), take.first), take.last);
  return edge === "first"
    ? { id: plank.id, edge, first: Math.min(at, plank.last - 1), last: plank.last }
    : { id: plank.id, edge, first: plank.first, last: Math.max(at, plank.first + 1) };
}

/** Planks as they would be by what is tried; null where they would be as they are. */
export function triedPlanks(tried: Strand | undefined, strand: Strand): Plank[] | null {
  return tried && JSON.stringify(tried.contacts) !== JSON.stringify(strand.contacts) ? tried.contacts : null;
}

/** Contacts of a row: planks with a nail at both ends, on what they stand, and how far they slip where that shows. `tried`: those that
 * would be, over those that are. */
export function drawPlanks(g: CanvasRenderingContext2D, row: Row, scale: Scale, ink: Ink, dragged: Dragged | null, chosen: { first: number; last: number } | null, tried: Plank[] | null = null) {
  if (tried) {
    g.globalAlpha = 0.3;
    draw(g, row, row.strand?.contacts ?? [], scale, ink, null, null, false);
    g.globalAlpha = 1;
  }
  draw(g, row, tried ?? row.strand?.contacts ?? [], scale, ink, dragged, chosen, tried !== null);
}

function draw(g: CanvasRenderingContext2D, row: Row, planks: Plank[], scale: Scale, ink: Ink, dragged: Dragged | null, chosen: { first: number; last: number } | null, tried: boolean) {
  const y = row.y + row.height - PLANK;
  const h = PLANK - 2.5;
  g.setLineDash(tried ? [4, 2] : []);
  for (const plank of planks) {
    const { first, last } = dragged?.id === plank.id ? dragged : plank;
    const [a, b] = [scale.x(first), scale.x(last)];
    const mine = tried || dragged?.id === plank.id || (chosen?.first === plank.first && chosen.last === plank.last);
    g.fillStyle = ink.table;
    g.strokeStyle = mine ? ink.accent : ink.soft;
    // Before the sole is on and after it, heel or ball alone: a board half as thick, at their side of the plank; a tip half that.
    for (const [n, point] of plank.points.entries()) {
      for (const [from, to] of [[point.first, Math.min(point.last, first)], [Math.max(point.first, last), point.last]] as const) {
        if (to <= from) continue;
        g.lineWidth = 1;
        g.beginPath();
        const thick = n < 2 ? 0.5 : 0.25;
        g.rect(scale.x(from), n === 0 ? y : y + (1 - thick) * h, scale.x(to) - scale.x(from), thick * h);
        g.fill();
        g.stroke();
      }
    }
    g.lineWidth = mine ? 2 : 1;
    g.beginPath();
    g.roundRect(a, y, Math.max(b - a, 3), h, 2);
    g.fill();
    g.stroke();
    g.fillStyle = mine ? ink.accent : ink.soft;
    for (const x of [a + 3.5, b - 3.5]) {
      g.beginPath();
      g.arc(x, y + h / 2, 1.4, 0, 7);
      g.fill();
    }
    const sinks = plank.depth >= SLIPS && plank.depth > plank.slip;
    const away = !sinks && plank.hover >= AWAY && plank.hover > plank.slip;
    const slips = plank.slip >= SLIPS || sinks || away;
    const alone = plank.points.length > 0 && plank.points.every((p, k) => k === 0 || p.first >= plank.points[k - 1]!.last) ? `${plank.points.map((p) => p.name).join(", ")} on ` : "";
    const words = `${alone}${plank.anchor}${sinks ? `, sinks ${mm(plank.depth)}` : away ? `, ${mm(plank.hover)} away` : slips ? `, slips ${mm(plank.slip)}` : ""}`;
    g.font = `${slips ? "700 " : ""}9px 'Figtree Variable', sans-serif`;
    if (g.measureText(words).width > Math.min(b, g.canvas.width) - Math.max(a, 0) - 16) continue;
    g.fillStyle = slips ? ink.alarm : ink.ink;
    g.fillText(words, Math.max(a, 0) + 8, y + h - 1.5);
  }
  g.setLineDash([]);
}
