import { Box, useTheme } from "@mui/material";
import { follow } from "../../shared/drag";
import { Sheet } from "../Sheet";
import { usePick } from "../state";
import { rulerStep, scaleOf } from "./scale";

export const RULER = 20;

/** The frames' numbers; dragging along it goes through the take. */
export function Ruler({ width }: { width: number }) {
  const theme = useTheme();
  const { shown, loop, toFrame } = usePick("shown", "loop", "toFrame");
  const scale = scaleOf(shown, width);
  const step = rulerStep(scale);
  const scrub = (event: React.PointerEvent<HTMLCanvasElement>) => {
    const bounds = event.currentTarget.getBoundingClientRect();
    const move = (e: { clientX: number }) => toFrame(scale.frame(e.clientX - bounds.left));
    move(event);
    follow(move);
  };
  return (
    <Sheet
      width={width}
      height={RULER}
      onPointerDown={scrub}
      aria-label="Frame ruler"
      draw={(g) => {
        g.clearRect(0, 0, width, RULER);
        if (loop) {
          g.fillStyle = theme.ink.accentSoft;
          g.fillRect(scale.x(loop[0]), 0, scale.x(loop[1]) - scale.x(loop[0]), RULER);
          g.fillStyle = theme.ink.accent;
          for (const f of loop) g.fillRect(scale.x(f) - 1, 0, 2, RULER);
        }
        g.font = "11px 'Figtree Variable', sans-serif";
        for (let f = Math.ceil(shown[0] / step) * step; f <= shown[1]; f += step) {
          g.fillStyle = theme.ink.line;
          g.fillRect(scale.x(f), 12, 1, 8);
          g.fillStyle = theme.ink.soft;
          g.fillText(String(f), scale.x(f) + 3, 12);
        }
      }}
    />
  );
}

/** The current frame, from the ruler down through rows and meter. */
export function FrameLine({ left, width, top }: { left: number; width: number; top: number }) {
  const theme = useTheme();
  const { frame, shown } = usePick("frame", "shown");
  if (frame < shown[0] || frame > shown[1]) return null;
  const x = scaleOf(shown, width).x(frame);
  const label = { left: Math.min(Math.max(x, 16), Math.max(width - 16, 16)) + left, top: top + 1 };
  return (
    <Box aria-hidden sx={{ position: "absolute", inset: 0, pointerEvents: "none", overflow: "hidden" }}>
      <Box style={{ transform: `translateX(${left + x - 0.75}px)`, top }} sx={{ position: "absolute", bottom: 0, width: "1.5px", bgcolor: theme.ink.ink }} />
      <Box style={label} data-testid="frame-mark" sx={{ position: "absolute", transform: "translateX(-50%)", px: 0.6, fontSize: 11, lineHeight: "16px", bgcolor: theme.ink.ink, color: theme.ink.sheet }}>
        {frame}
      </Box>
    </Box>
  );
}
