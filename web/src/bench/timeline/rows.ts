import type { Strand, TakeInfo } from "../../shared/api";
import { PLANK } from "./planks";

/** A row of the timeline: a strand, or the head of a group or of a character. */
export interface Row {
  key: string;
  y: number;
  height: number;
  label: string;
  strand: Strand | null;
  /** What it folds, and whether that lies open. */
  fold: { id: string; open: boolean } | null;
  /** Strands that are folded away under it. */
  under: Strand[];
  depth: number;
  pinned: boolean;
}

/** What the animator has done to the rows; kept for the next visit. */
export interface RowChoices {
  folded: Record<string, boolean>;
  pinned: string[];
  heights: Record<string, number>;
}

export const NO_CHOICES: RowChoices = { folded: {}, pinned: [], heights: {} };
/** Heights of what is handed over, and of everything else, pixels, without planks. */
const TALL = 40;
const THIN = 18;
export const LEAST_HEIGHT = 14;

type Group = TakeInfo["groups"][number];
type Rows = Pick<TakeInfo, "groups" | "strands" | "members">;

export const keyOf = (strand: { member: string; part: string }) => `${strand.member}/${strand.part}`;
export const planksHeight = (strand: Strand) => (strand.contacts.length ? PLANK : 0);

/** Whether a row needs room for what drives it: limbs always do, what is in the middle of a body only where that changes. */
const changes = (strand: Strand) => strand.main && (strand.side !== "middle" || strand.states.length > 1);

function heightOf(strand: Strand | null, key: string, heights: RowChoices["heights"]): number {
  const own = heights[key] ?? (strand && changes(strand) ? TALL : THIN);
  return own + (strand ? planksHeight(strand) : 0);
}

/** Whether a group lies folded until the animator says otherwise: what hangs at limbs, and the set. */
function foldedAtFirst(group: Group, strands: Strand[]): boolean {
  if (group.lead !== null) return strands.some((s) => s.part === group.lead && s.main);
  return !strands.some((s) => s.keys.length > 1 || s.follows.length || s.findings.length);
}

/** What is handed over most comes first, then bodies, then groups without a leading row. */
const rank = (group: Group, strands: Strand[]) => (group.lead === null ? 2 : strands.some((s) => s.part === group.lead && s.main) ? 0 : 1);

/**
 * Rows from the top: pinned ones, then character by character (each with a head that folds it where there are several), group
 * by group. A group that holds the part in hand lies open. With a filter: all whose words contain it, nothing folded.
 */
export function layout(take: Rows, choices: RowChoices, filter = "", focus: { member: string; part: string } | null = null): Row[] {
  const rows: Row[] = [];
  let y = 0;
  const add = (row: Omit<Row, "y" | "height">) => {
    const height = heightOf(row.strand, row.key, choices.heights);
    rows.push({ ...row, y, height });
    y += height;
  };
  const plain = (strand: Strand, depth: number, pinned = false, label = strand.label) => add({ key: keyOf(strand), label, strand, fold: null, under: [], depth, pinned });
  const characters = take.members.filter((m) => m.kind === "character");
  const several = characters.length > 1;
  const named = (s: Strand) => {
    const owner = several ? characters.find((m) => m.id === s.member) : undefined;
    return owner ? `${owner.name}: ${s.label}` : s.label;
  };
  const wanted = filter.trim().toLowerCase();
  if (wanted) {
    for (const s of take.strands) if (`${named(s)} ${s.part}`.toLowerCase().includes(wanted)) plain(s, 0, choices.pinned.includes(keyOf(s)), named(s));
    return rows;
  }
  const pinned = take.strands.filter((s) => choices.pinned.includes(keyOf(s)));
  for (const s of pinned) plain(s, 0, true, named(s));
  const group = (g: Group, depth: number) => {
    const mine = take.strands.filter((s) => s.group === g.id);
    const rest = mine.filter((s) => !pinned.includes(s));
    if (!rest.length) return;
    const holds = focus !== null && rest.some((s) => s.part !== g.lead && s.member === focus.member && s.part === focus.part);
    const open = holds || !(choices.folded[g.id] ?? foldedAtFirst(g, mine));
    const lead = rest.find((s) => s.part === g.lead) ?? null;
    const others = rest.filter((s) => s !== lead);
    const fold = others.length ? { id: g.id, open } : null;
    const under = open ? [] : others;
    if (lead) add({ key: keyOf(lead), label: lead.label, strand: lead, fold, under, depth, pinned: false });
    else if (g.lead === null && others.length === 1) return plain(others[0]!, depth);
    else add({ key: g.id, label: g.label, strand: null, fold, under, depth, pinned: false });
    if (open) for (const s of others) plain(s, depth + 1);
  };
  const sorted = (groups: Group[]) => [...groups].sort((a, b) => rank(a, take.strands.filter((s) => s.group === a.id)) - rank(b, take.strands.filter((s) => s.group === b.id)));
  for (const member of characters) {
    const mine = sorted(take.groups.filter((g) => g.member === member.id));
    if (several) {
      const id = `${member.id}:`;
      const strands = take.strands.filter((s) => s.member === member.id && !pinned.includes(s));
      const open = focus?.member === member.id || !choices.folded[id];
      add({ key: id, label: member.name, strand: null, fold: { id, open }, under: open ? [] : strands, depth: 0, pinned: false });
      if (!open) continue;
    }
    for (const g of mine) group(g, several ? 1 : 0);
  }
  for (const g of sorted(take.groups.filter((x) => x.member === ""))) group(g, 0);
  return rows;
}

/** Height of all rows together. */
export const heightOfAll = (rows: Row[]) => rows.reduce((h, r) => Math.max(h, r.y + r.height), 0);

/** The row at a height; the last one below all. */
export function rowAt(rows: Row[], y: number): number {
  const found = rows.findIndex((r) => y < r.y + r.height);
  return found < 0 ? rows.length - 1 : found;
}

/** Parts that rows stand for: that of its strand, or all that a head without one holds. */
export function partsOf(rows: Row[]): { member: string; part: string }[] {
  return rows.flatMap((r) => (r.strand ? [r.strand] : r.under)).map(({ member, part }) => ({ member, part }));
}
