import type { Operation } from "../shared/api";

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
