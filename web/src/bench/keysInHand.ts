import type { KeyEdit } from "../shared/api";
import type { KeyRef } from "./state";

/** The keys in hand, grouped as an edit names them. */
export function named(picked: KeyRef[]): NonNullable<KeyEdit["keys"]> {
  const times = new Map<string, number[]>();
  for (const k of picked) times.set(k.channel, [...(times.get(k.channel) ?? []), k.time]);
  return [...times].map(([channel, t]) => ({ channel, times: t }));
}
