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
  return data ? `Meter: greatest pose jump ${exact(data)}${tried ? `; tried: greatest pose jump ${exact(tried)}` : ""}` : "Meter";
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
  g.fillStyle = p.ink.soft;
  g.font = "10px 'Figtree Variable', sans-serif";
  for (const level of [0.01, 1, 100]) {
    const y = Math.round(p.height - meterHeight(level / 1000, p.height)) + 0.5;
    g.beginPath();
    g.moveTo(0, y);
    g.lineTo(p.width, y);
    g.stroke();
    g.fillText(`${level} mm`, 2, y - 2);
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
  const bars = (data: MeterData, color: string, shift: number) => {
    g.fillStyle = color;
    data.frames.forEach((f, i) => {
      const h = meterHeight(data.pose[i]!, p.height);
      if (h > 1) g.fillRect(scale.x(f) - 2.5 + shift, p.height - 2 - h, 5, h);
    });
  };
  if (p.data) {
    bars(p.data, p.ink.alarm, 0);
    line(p.data, p.ink.soft, false);
  }
  if (p.tried) {
    bars(p.tried, p.ink.accent, 4);
    line(p.tried, p.ink.accent, true);
  }
}
