import type { Choice, Operation } from "../shared/api";

/** Room (px) for what ends an operation, beside which they stand, and for the button behind which the others are. */
export const FINISH = 275;
const MORE = 80;

/** About how wide the button of an operation is, px. */
const wide = (o: Pick<Operation, "label">) => 19 + 7.1 * o.label.length;

/** Operations that there is room for in a row, in their order, the chosen one always among them, and the others. */
export function fitted<T extends Pick<Operation, "id" | "label">>(offered: T[], chosen: string, room: number): { beside: T[]; more: T[] } {
  const whole = offered.reduce((sum, o) => sum + wide(o), 0);
  if (whole <= room) return { beside: offered, more: [] };
  const mine = offered.find((o) => o.id === chosen);
  let left = room - MORE - (mine ? wide(mine) : 0);
  const kept = new Set<T>(mine ? [mine] : []);
  for (const o of offered) {
    if (o === mine) continue;
    left -= wide(o);
    if (left < 0) break;
    kept.add(o);
  }
  return { beside: offered.filter((o) => kept.has(o)), more: offered.filter((o) => !kept.has(o)) };
}

/** Whether a choice matters as the others are made: one that depends on another does where that one does. */
export function counts(of: Pick<Operation, "choices">, choice: Choice, made: Record<string, string | number>): boolean {
  const when = choice.when;
  if (!when) return true;
  const on = of.choices.find((o) => o.name === when.choice);
  return (!on || counts(of, on, made)) && (!(when.choice in made) || when.values.includes(String(made[when.choice])));
}

/** The choice that a click in the view answers: a place before something to follow. */
export function askedByClick(of: Pick<Operation, "choices"> | undefined, made: Record<string, string | number>): Choice | undefined {
  const able = of?.choices.filter((c) => counts(of, c, made)) ?? [];
  return able.find((c) => c.kind === "point") ?? able.find((c) => c.kind === "anchor");
}

/** Whether a place or a take is still to be chosen, as the other choices are made. */
export function toBeChosen(of: Pick<Operation, "choices"> | undefined, made: Record<string, string | number>): boolean {
  return Boolean(of?.choices.some((c) => (c.kind === "point" || c.kind === "take") && counts(of, c, made) && (made[c.name] ?? "") === ""));
}
