import type { Tried } from "../../shared/api";

type Pull = NonNullable<Tried["in_view"]>["pulls"][number];

/** What of the places that something can be dragged to is nearest to the pointer, in the picture. */
export function nearest(to: Pull["to"], pointer: { x: number; y: number }, seen: (place: Pull["at"]) => { x: number; y: number }): Pull["to"][number] | undefined {
  let best: Pull["to"][number] | undefined;
  let least = Infinity;
  for (const one of to) {
    const { x, y } = seen(one.place);
    const off = Math.hypot(x - pointer.x, y - pointer.y);
    if (off < least) [best, least] = [one, off];
  }
  return best;
}
