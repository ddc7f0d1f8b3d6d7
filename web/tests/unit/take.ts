import type { Strand, TakeInfo } from "../../src/shared/api";

type Member = Pick<TakeInfo["members"][number], "id" | "name" | "kind">;

/** A strand with nothing on it. */
export function strand(member: string, part: string, group: string, more: Partial<Strand> = {}): Strand {
  return {
    member, part, group, label: part, side: "middle", kind: "joints", main: false, systems: [{ name: "fk", label: "FK", keyed: true }], level: [[0, 0]], states: [[0, "fk"]],
    keys: [], follows: [], contacts: [], findings: [], operations: [], ...more,
  };
}

/** Rows of some characters, each with two arms of three parts, a body of three, and a prop and a set for all. */
export function cast(...names: string[]) {
  const members: Member[] = names.map((name) => ({ id: name.toLowerCase(), name, kind: "character" }));
  const groups: TakeInfo["groups"] = [];
  const strands: Strand[] = [];
  for (const m of members) {
    groups.push({ id: `${m.id}/`, label: "body", member: m.id, lead: "hips" });
    for (const part of ["hips", "spine", "head"]) strands.push(strand(m.id, part, `${m.id}/`));
    for (const side of ["left", "right"]) {
      const id = `${m.id}/shoulder ${side}`;
      groups.push({ id, label: `${side} arm`, member: m.id, lead: `${side} arm` });
      for (const part of ["shoulder", "arm", "fingers"]) strands.push(strand(m.id, `${side} ${part}`, id, { side, main: part === "arm" }));
    }
  }
  groups.push({ id: "props", label: "props", member: "", lead: null }, { id: "set", label: "set", member: "", lead: null });
  strands.push(strand("lantern", "lantern", "props"), strand("deck", "deck", "set"), strand("rail", "rail", "set"));
  return { members: members as TakeInfo["members"], groups, strands };
}
