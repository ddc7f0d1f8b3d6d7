import type { Strand, TakeInfo } from "../shared/api";
import { BOTH, driverAt, type PartRef } from "./state";

/** Something that follows something else at a frame: a part, or one joint of it that turns. */
export interface Hold extends PartRef {
  label: string;
  side: string;
  anchor: string;
  /** Whether only its turn follows. */
  turns: boolean;
}

/** Who holds on to what at a frame, by members of the cast in their order; what an idle system would follow is left out. */
export function holdsAt(info: Pick<TakeInfo, "members" | "strands">, frame: number): { member: string; name: string; holds: Hold[] }[] {
  const of = (s: Strand): Hold[] =>
    s.follows
      .filter((f) => frame >= f.first && frame <= f.last && [f.system, BOTH].includes(driverAt(s, frame)))
      .map((f) => ({ member: s.member, part: s.part, label: f.control || s.label, side: s.side, anchor: f.anchor, turns: f.turns }));
  const known = new Set(info.members.map((m) => m.id));
  // Anchors are in no cast: each is its own row.
  const made = info.strands.filter((s) => !known.has(s.member)).map((s) => ({ id: s.member, name: s.label }));
  return [...info.members, ...made]
    .map((m) => ({ member: m.id, name: m.name, holds: info.strands.filter((s) => s.member === m.id).flatMap(of) }))
    .filter((m) => m.holds.length > 0);
}
