import { Box, useTheme } from "@mui/material";
import type { TakeInfo } from "../../shared/api";
import { follow } from "../../shared/drag";
import { Sheet } from "../Sheet";
import { useBench, usePick } from "../state";
import { drawOverview } from "./drawOverview";
import { panned, scaleOf } from "./scale";

export const OVERVIEW = 14;

/** The whole take in a slim band: a click goes to a frame, the window of what is shown is dragged along. */
export function Overview({ info, width }: { info: TakeInfo; width: number }) {
  const theme = useTheme();
  const { shown, set, toFrame } = usePick("shown", "set", "toFrame");
  const press = (event: React.PointerEvent<HTMLCanvasElement>) => {
    if (event.button !== 0) return;
    const bounds = event.currentTarget.getBoundingClientRect();
    const scale = scaleOf([info.first, info.last], width);
    const start = scale.frame(event.clientX - bounds.left);
    const whole = shown[0] <= info.first && shown[1] >= info.last;
    let moved = false;
    follow(
      (e) => {
        moved = moved || Math.abs(e.clientX - event.clientX) > 2;
        const at = scale.frame(e.clientX - bounds.left);
        if (moved) set(whole ? {} : { shown: panned(shown, at - start, info) });
        if (moved && whole) toFrame(at);
      },
      () => !moved && toFrame(start),
    );
  };
  return (
    <Box sx={{ position: "relative" }}>
      <Sheet
        width={width}
        height={OVERVIEW}
        onPointerDown={press}
        role="img"
        aria-label={`The whole take, frames ${info.first} to ${info.last}: ${info.findings.length} findings`}
        data-testid="overview"
        draw={(g) => drawOverview(g, { info, shown, ink: theme.ink, width, height: OVERVIEW })}
      />
      <Here info={info} width={width} />
    </Box>
  );
}

/** The current frame on the band: by itself, so that playing does not draw the band anew. */
function Here({ info, width }: { info: TakeInfo; width: number }) {
  const theme = useTheme();
  const frame = useBench((s) => s.frame);
  const x = scaleOf([info.first, info.last], width).x(frame);
  return <Box aria-hidden style={{ transform: `translateX(${x - 1}px)` }} sx={{ position: "absolute", left: 0, top: 0, width: 2, height: OVERVIEW, bgcolor: theme.ink.ink, pointerEvents: "none" }} />;
}
