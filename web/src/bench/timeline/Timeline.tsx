import { Box, Button, useTheme } from "@mui/material";
import { useEffect, useMemo, useRef } from "react";
import type { TakeInfo } from "../../shared/api";
import { useKept } from "../../shared/kept";
import { useSize } from "../../shared/useSize";
import { Curves } from "../curves/Curves";
import { Sheet } from "../Sheet";
import { useBench, usePick, type PartRef } from "../state";
import { drawRows } from "./drawRows";
import { Meter } from "./Meter";
import { Overview, OVERVIEW } from "./Overview";
import { RowLabels } from "./RowLabels";
import { heightOfAll, layout, NO_CHOICES, type RowChoices } from "./rows";
import { FrameLine, Ruler, RULER } from "./Ruler";
import { inSight, panned, scaleOf, zoomed } from "./scale";
import { useRowGestures } from "./useRowGestures";

export const LABELS = 176;

/** The take across time: an overview, the ruler, one row a part (or curves in their place), the meter. */
export function Timeline({ info }: { info: TakeInfo }) {
  const { shown, curves, set } = usePick("shown", "curves", "set");
  const box = useRef<HTMLElement>(null);
  const width = Math.max(0, useSize(box).width - LABELS);
  const scale = scaleOf(shown, width);
  useFrameInSight(info);

  const wheel = (event: React.WheelEvent) => {
    if (!event.ctrlKey && Math.abs(event.deltaY) > Math.abs(event.deltaX) && !event.shiftKey) return;
    if (event.ctrlKey) set({ shown: zoomed(shown, scale.frame(event.nativeEvent.offsetX), Math.exp(event.deltaY * 0.002), info) });
    else set({ shown: panned(shown, ((event.deltaX || event.deltaY) / Math.max(width, 1)) * (shown[1] - shown[0]), info) });
  };

  return (
    <Box
      ref={box}
      component="section"
      aria-label="Strands"
      onWheel={wheel}
      // Words beside the rows that a drag had marked would be dragged along by the next one.
      sx={{ position: "relative", bgcolor: "background.default", display: "flex", flexDirection: "column", minHeight: 0, height: "100%", userSelect: "none" }}
    >
      <Box sx={{ display: "flex", flexShrink: 0 }}>
        <Tools />
        <Box>
          <Overview info={info} width={width} />
          <Ruler width={width} />
        </Box>
      </Box>
      {curves ? <Curves info={info} labels={LABELS} width={width} /> : <Rows info={info} width={width} />}
      <Meter info={info} labels={LABELS} width={width} />
      <FrameLine left={LABELS} width={width} top={OVERVIEW} />
    </Box>
  );
}

/** Keeps the current frame in the span that is shown, turning it on like a page; a playing frame draws nothing else anew. */
function useFrameInSight(info: TakeInfo) {
  useEffect(() => {
    const keep = () => {
      const { shown, frame, set } = useBench.getState();
      const next = inSight(shown, frame, info);
      if (next !== shown) set({ shown: next });
    };
    keep();
    return useBench.subscribe((now, before) => now.frame !== before.frame && keep());
  }, [info]);
}

/** Strands or curves, and the words that rows must contain. */
function Tools() {
  const theme = useTheme();
  const { curves, filter, set } = usePick("curves", "filter", "set");
  return (
    <Box sx={{ width: LABELS, flexShrink: 0, height: OVERVIEW + RULER, px: 0.75, display: "flex", alignItems: "center", gap: 0.5, "& .MuiButton-root": { py: 0, px: 0.75, minWidth: 0, fontSize: 11, lineHeight: "18px" } }}>
      <Button variant={curves ? "text" : "contained"} disableElevation aria-pressed={!curves} onClick={() => set({ curves: false })} title="Strands of all parts (W)">
        Strands
      </Button>
      <Button variant={curves ? "contained" : "text"} disableElevation aria-pressed={curves} onClick={() => set({ curves: true })} title="Curves of the ticked channels (W)">
        Curves
      </Button>
      <input
        id="row-filter"
        type="search"
        value={filter}
        placeholder="find /"
        aria-label="Rows whose name contains"
        title="Only rows whose name contains this (/)"
        onChange={(e) => set({ filter: e.target.value })}
        onKeyDown={(e) => {
          if (e.key === "Escape") set({ filter: "" });
          if (e.key === "Escape" || e.key === "Enter") e.currentTarget.blur();
        }}
        style={{ width: 52, minWidth: 0, flexGrow: 1, font: "inherit", fontSize: 11, padding: "1px 4px", border: `1px solid ${theme.ink.line}`, borderRadius: 6, background: theme.ink.sheet, color: theme.ink.ink }}
      />
    </Box>
  );
}

/** Brings the row of the part in hand into sight when it is taken in hand. */
function useInSight(box: React.RefObject<HTMLDivElement | null>, rows: ReturnType<typeof layout>, focus: PartRef | null) {
  useEffect(() => {
    const row = rows.find((r) => r.strand && focus && r.strand.member === focus.member && r.strand.part === focus.part);
    const seen = box.current;
    if (!row || !seen) return;
    if (row.y < seen.scrollTop) seen.scrollTop = row.y;
    else if (row.y + row.height > seen.scrollTop + seen.clientHeight) seen.scrollTop = row.y + row.height - seen.clientHeight;
    // Folding and filtering leave the sight where it is.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [focus]);
}

/** The rows with their names; they scroll where there are more than fit. */
function Rows({ info, width }: { info: TakeInfo; width: number }) {
  const theme = useTheme();
  const { stretch, focus, trial, shown, filter } = usePick("stretch", "focus", "trial", "shown", "filter");
  const [choices, setChoices] = useKept<RowChoices>(`rows of scene ${info.scene_id}`, NO_CHOICES);
  const rows = useMemo(() => layout(info, choices, filter, focus), [info, choices, filter, focus]);
  const height = heightOfAll(rows);
  const scale = scaleOf(shown, width);
  const { press, hover, join, dragged } = useRowGestures(info, rows, scale);
  const box = useRef<HTMLDivElement>(null);
  useInSight(box, rows, focus);
  return (
    <Box ref={box} sx={{ display: "flex", overflowY: "auto", overflowX: "hidden", flexGrow: 1, minHeight: 0, position: "relative" }}>
      <RowLabels rows={rows} width={LABELS} choices={choices} onChange={setChoices} onJoin={join} />
      {rows.length === 0 && <Box sx={{ p: 2, fontSize: 13, color: "text.secondary" }}>No row’s name contains “{filter}”.</Box>}
      <Sheet
        width={width}
        height={height}
        onPointerDown={press}
        onPointerMove={hover}
        data-testid="strands"
        data-first={shown[0]}
        data-last={shown[1]}
        data-rows={JSON.stringify(rows.map((r) => [r.key, Math.round(r.y), Math.round(r.height)]))}
        aria-label="Strands: drag across frames and rows to select a stretch"
        draw={(g) => drawRows(g, { info, rows, tried: trial?.strands ?? [], shown, stretch, focus, dragged, ink: theme.ink, width, height })}
      />
    </Box>
  );
}
