import type { HandleRef } from "../state";

/** How far a pixel changes a value, as it is stored: half a degree, two millimetres, a hundredth; a tenth of that finely. */
export function dragStep(unit: string, finely: boolean): number {
  const step = unit === "rad" ? Math.PI / 360 : unit === "m" ? 0.002 : 0.01;
  return finely ? step / 10 : step;
}

/** The channel, and those of the same name of what is in hand with its control. */
export function alike(channel: string, inHand: HandleRef[]): string[] {
  const dot = channel.lastIndexOf(".");
  const control = channel.slice(0, dot);
  const names = inHand.map((h) => `${h.member}/${h.control}`);
  if (!names.includes(control)) return [channel];
  return [...new Set([channel, ...names.map((n) => n + channel.slice(dot))])];
}
