import type { TakeInfo } from "../../shared/api";
import type { Ink } from "../../shared/theme";
import { driverAt } from "../state";
import { scaleOf, type Span } from "./scale";

interface Picture {
  info: TakeInfo;
  shown: Span;
  ink: Ink;
  width: number;
  height: number;
}

/** Frames at which any part that is handed over changes its system. */
export function changesOf(info: TakeInfo): number[] {
  const found = new Set<number>();
  for (const s of info.strands)
    if (s.main) s.states.forEach(([frame], k) => k > 0 && driverAt(s, frame) !== driverAt(s, frame - 1) && found.add(frame));
  return [...found].sort((a, b) => a - b);
}

/** The whole take in a slim band: contacts as a line, changes of system as ticks, findings as spikes, what is shown as a
 * window. */
export function drawOverview(g: CanvasRenderingContext2D, { info, shown, ink, width, height }: Picture) {
  const scale = scaleOf([info.first, info.last], width);
  g.clearRect(0, 0, width, height);
  g.fillStyle = ink.table;
  g.fillRect(0, 0, width, height);
  g.fillStyle = ink.soft;
  g.globalAlpha = 0.35;
  for (const s of info.strands) for (const c of s.contacts) g.fillRect(scale.x(c.first), height - 4, Math.max(scale.x(c.last) - scale.x(c.first), 1), 2);
  g.globalAlpha = 1;
  g.fillStyle = ink.ink;
  for (const f of changesOf(info)) g.fillRect(scale.x(f) - 0.75, 3, 1.5, height - 6);
  g.fillStyle = ink.alarm;
  for (const f of info.findings) {
    const x = scale.x(f.frame);
    g.beginPath();
    g.moveTo(x - 4, height);
    g.lineTo(x, 1);
    g.lineTo(x + 4, height);
    g.fill();
  }
  if (shown[0] > info.first || shown[1] < info.last) {
    const [a, b] = [scale.x(Math.max(shown[0], info.first)), scale.x(Math.min(shown[1], info.last))];
    g.fillStyle = ink.accent;
    g.globalAlpha = 0.2;
    g.fillRect(a, 0, b - a, height);
    g.globalAlpha = 1;
    g.strokeStyle = ink.accent;
    g.lineWidth = 1.5;
    g.strokeRect(a + 0.75, 0.75, Math.max(b - a - 1.5, 2), height - 1.5);
  }
}
