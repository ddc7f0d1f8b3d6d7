import { Box, Checkbox, FormControlLabel, IconButton, Typography, useTheme } from "@mui/material";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { get, type CurveInfo, type TakeInfo } from "../../shared/api";
import { useSize } from "../../shared/useSize";
import { Sheet } from "../Sheet";
import { useBench, usePick } from "../state";
import { scaleOf } from "../timeline/scale";
import { drawCurves, heightsOf, styleOf } from "./drawCurves";
import { KeyTools, TOOLS } from "./KeyTools";
import { useCurveGestures } from "./useCurveGestures";

/** Curves of these channels at a revision. */
export function useCurves(info: TakeInfo, channels: string[], revision: number | null) {
  const query = channels.map((c) => `channel=${encodeURIComponent(c)}`).join("&");
  const layer = useBench((s) => s.layer);
  return useQuery({
    queryKey: ["curves", info.id, revision, query, layer],
    queryFn: () => get<CurveInfo[]>(`/takes/${info.id}/curves?${query}&revision=${revision}&layer=${layer}`),
    enabled: channels.length > 0 && revision !== null,
    placeholderData: keepPreviousData,
    staleTime: Infinity,
  });
}

const NO_CURVES: CurveInfo[] = [];

/** The chosen channels as curves, in place of the strands: keys and slopes to drag, the last operation's before. */
export function Curves({ info, labels, width }: { info: TakeInfo; labels: number; width: number }) {
  const theme = useTheme();
  const { channels, picked, shown, frame, set } = usePick("channels", "picked", "shown", "frame", "set");
  const now = useCurves(info, channels, info.revision).data ?? NO_CURVES;
  const before = useCurves(info, channels, info.parent).data ?? NO_CURVES;
  const frameBox = useRef<HTMLDivElement>(null);
  const room = Math.max(useSize(frameBox).height - TOOLS, 40);
  const mixed = new Set(now.map((c) => c.unit)).size > 1;
  const [own, setOwn] = useState(false);
  const apart = own || mixed;
  const settled = useMemo(() => heightsOf({ curves: now, before, shown, height: room, own: apart }), [now, before, shown, room, apart]);
  const scale = scaleOf(shown, width);

  const { press, insertAt, dragged, box } = useCurveGestures(now, settled, scale);
  const curves = dragged ?? now;

  const keys = picked.flatMap((ref) => now.find((c) => c.channel === ref.channel)?.keys.filter((k) => k.time === ref.time) ?? []);
  const words = keys.length ? `${keys.length} key${keys.length === 1 ? "" : "s"} picked` : `${now.reduce((n, c) => n + c.keys.length, 0)} keys`;
  return (
    <Box ref={frameBox} sx={{ display: "flex", flexGrow: 1, minHeight: 0, overflow: "hidden" }}>
      <Box sx={{ width: labels, flexShrink: 0, overflow: "auto", p: 0.75, fontSize: 12 }}>
        {now.map((c, n) => (
          <Box key={c.channel} sx={{ display: "flex", alignItems: "center", gap: 0.5, lineHeight: 1.2, mb: 0.25 }}>
            <span aria-hidden style={{ color: styleOf(n, theme.ink).color }}>
              {["●", "◆", "■", "▲"][styleOf(n, theme.ink).shape]}
            </span>
            <Box component="span" sx={{ flexGrow: 1, overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" }} title={c.channel}>
              {c.label}
            </Box>
            <IconButton size="small" sx={{ p: 0, fontSize: 11 }} aria-label={`Take ${c.label} away`} onClick={() => set({ channels: channels.filter((x) => x !== c.channel), picked: picked.filter((k) => k.channel !== c.channel) })}>
              ✕
            </IconButton>
          </Box>
        ))}
        {!mixed && now.length > 1 && (
          <FormControlLabel sx={{ m: 0, "& span": { fontSize: 12 } }} control={<Checkbox size="small" sx={{ p: 0, mr: 0.5 }} checked={own} onChange={() => setOwn(!own)} />} label="each to its height" />
        )}
      </Box>
      <Box sx={{ position: "relative", flexGrow: 1, minWidth: 0, userSelect: "none" }}>
        <KeyTools keys={keys} picked={picked} frame={frame} words={words} />
        <Sheet
          width={width}
          height={room}
          onPointerDown={press}
          onDoubleClick={insertAt}
          data-testid="curves"
          role="img"
          aria-label={`Curves of ${now.map((c) => c.label).join(", ")}: ${words}`}
          data-first={shown[0]}
          data-last={shown[1]}
          draw={(g) => {
            drawCurves(g, { curves, before, picked: dragged ? [] : picked, shown, ink: theme.ink, width, height: room, own: apart });
            if (box) {
              g.strokeStyle = theme.ink.ink;
              g.setLineDash([3, 3]);
              g.strokeRect(box.x0, box.y0, box.x1 - box.x0, box.y1 - box.y0);
              g.setLineDash([]);
            }
          }}
        />
        {now.length === 0 && (
          <Typography sx={{ position: "absolute", top: 40, left: 16, p: 1, zIndex: 1, color: "text.secondary", bgcolor: "background.default", pointerEvents: "none" }}>
            No curve is laid out: tick channels in the part card, or their heading for all that tell something. Drag keys and the handles of picked ones; a double click puts a key; the dashed line is what was there before the last operation.
          </Typography>
        )}
      </Box>
    </Box>
  );
}
