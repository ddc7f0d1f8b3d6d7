import type { MeterData } from "../../shared/api";
import { mm } from "../../shared/format";
import type { Ink } from "../../shared/theme";
import { scaleOf, type Span } from "./scale";

export interface MeterPicture {
  shown: Span;
  ink: Ink;
  width: number;
  height: number;
  data: MeterData | undefined;
  tried: MeterData | undefined;
}

/** Millimetres on a log scale: 0.001 at the foot, 1000 at the top. */
export function meterHeight(metres: number, height: number): number {
  const v = Math.log10(Math.max(metres * 1000, 1e-3));
  return ((v + 3) / 6) * (height - 4);
}

/** The meter in words: its greatest jump, and that of what is tried. */
export function meterWords(data: MeterData | undefined, tried: MeterData | undefined): string {
  const most = (d: MeterData) => Math.max(0, ...d.pose);
  const exact = (d: MeterData) => `${(1000 * most(d)).toFixed(3)} mm`;
  const slips = (d: MeterData) => (Math.max(0, ...d.slip, ...d.depth) > 0 ? `, slip ${mm(Math.max(0, ...d.slip))}, depth ${mm(Math.max(0, ...d.depth))}` : "");
  return data ? `Meter: greatest pose jump ${exact(data)}${slips(data)}${tried ? `; tried: greatest pose jump ${exact(tried)}${slips(tried)}` : ""}` : "Meter";
}

/** The same in few words, for a meter that is folded. */
export function meterShort(data: MeterData | undefined, tried: MeterData | undefined): string {
  const most = (d: MeterData) => mm(Math.max(0, ...d.pose));
  return data ? `greatest pose jump ${most(data)}${tried ? `, tried ${most(tried)}` : ""}` : "";
}

export function drawMeter(g: CanvasRenderingContext2D, p: MeterPicture) {
  const scale = scaleOf(p.shown, p.width);
  g.clearRect(0, 0, p.width, p.height);
  g.strokeStyle = p.ink.line;
  g.lineWidth = 1;
  g.font = "10px 'Figtree Variable', sans-serif";
  const levels = [0.01, 1, 100].map((level) => [level, Math.round(p.height - meterHeight(level / 1000, p.height)) + 0.5] as const);
  for (const [, y] of levels) {
    g.beginPath();
    g.moveTo(0, y);
    g.lineTo(p.width, y);
    g.stroke();
  }
  const line = (data: MeterData, color: string, dashed: boolean) => {
    g.strokeStyle = color;
    g.lineWidth = 1.5;
    g.setLineDash(dashed ? [4, 3] : []);
    g.beginPath();
    data.frames.forEach((f, i) => {
      const y = p.height - 2 - meterHeight(data.speed[i]!, p.height);
      if (i === 0) g.moveTo(scale.x(f), y);
      else g.lineTo(scale.x(f), y);
    });
    g.stroke();
    g.setLineDash([]);
  };
  // How far what stands slips is a field from the foot up, how deep it sinks dots over it: neither is a jump.
  const field = (data: MeterData, color: string, alpha: number) => {
    g.fillStyle = color;
    data.frames.forEach((f, i) => {
      const wide = Math.max(scale.x(f + 0.5) - scale.x(f - 0.5), 1);
      const [slip, deep] = [data.slip[i]!, data.depth[i]!].map((v) => meterHeight(v, p.height));
      g.globalAlpha = alpha;
      if (slip! > 0) g.fillRect(scale.x(f - 0.5), p.height - 2 - slip!, wide, slip!);
      g.globalAlpha = 1;
      if (deep! > 0) g.fillRect(scale.x(f) - 1, p.height - 3 - deep!, 2, 2);
    });
  };
  const bars = (data: MeterData, color: string, shift: number) => {
    g.fillStyle = color;
    data.frames.forEach((f, i) => {
      const h = meterHeight(data.pose[i]!, p.height);
      if (h > 1) g.fillRect(scale.x(f) - 2.5 + shift, p.height - 2 - h, 5, h);
    });
  };
  if (p.data) {
    field(p.data, p.ink.soft, 0.3);
    bars(p.data, p.ink.alarm, 0);
    line(p.data, p.ink.soft, false);
  }
  if (p.tried) {
    field(p.tried, p.ink.accent, 0.35);
    bars(p.tried, p.ink.accent, 4);
    line(p.tried, p.ink.accent, true);
  }
  // Over all, so that they can be read.
  g.fillStyle = p.ink.ink;
  for (const [level, y] of levels) g.fillText(`${level} mm`, 2, y - 2);
}
