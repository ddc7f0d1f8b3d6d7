import { Box, ButtonBase, Typography, useTheme } from "@mui/material";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { get, type MeterData, type TakeInfo } from "../../shared/api";
import { Sheet } from "../Sheet";
import { usePick, type PartRef } from "../state";
import { drawMeter, meterShort, meterWords } from "./drawMeter";

const OPEN = 66;
const FOLDED = 20;

/** Jumps of pose and of speed, frame by frame, of what is selected, and how far what stands of it slips and sinks; folded, the
 * greatest in words. */
export function Meter({ info, labels, width }: { info: TakeInfo; labels: number; width: number }) {
  const theme = useTheme();
  const { stretch, focus, trial, wish, shown, meter: open, set } = usePick("stretch", "focus", "trial", "wish", "shown", "meter", "set");
  const wanted: PartRef[] = stretch?.parts ?? (wish?.operation === "repair" ? wish.parts : focus ? [focus] : []);
  const parts = wanted.map((p) => `part=${encodeURIComponent(`${p.member}/${p.part}`)}`).join("&");
  const range = `first=${Math.max(info.first, Math.floor(shown[0]))}&last=${Math.min(info.last, Math.ceil(shown[1]))}`;
  const stored = useQuery({
    queryKey: ["meter", info.id, info.revision, parts, range],
    queryFn: () => get<MeterData>(`/takes/${info.id}/meter?${parts}&${range}&revision=${info.revision}`),
    enabled: parts !== "",
    placeholderData: keepPreviousData,
  });
  const tried = useQuery({
    queryKey: ["meter", trial?.trial, parts, range],
    queryFn: () => get<MeterData>(`/takes/${info.id}/meter?${parts}&${range}&trial=${trial!.trial}`),
    enabled: parts !== "" && trial !== null,
  });
  const data = { shown, ink: theme.ink, width, height: OPEN, data: stored.data, tried: tried.data };
  return (
    <Box sx={{ display: "flex", borderTop: 1, borderColor: "divider", flexShrink: 0, height: open ? OPEN : FOLDED }}>
      <Box sx={{ width: labels, flexShrink: 0, fontSize: 11, lineHeight: 1.3, color: "text.secondary" }}>
        <ButtonBase onClick={() => set({ meter: !open })} aria-expanded={open} title="Jumps frame by frame (M)" sx={{ fontFamily: theme.typography.fontFamily, fontSize: 11, fontWeight: 700, height: FOLDED, color: "text.secondary" }}>
          <Box component="span" aria-hidden sx={{ width: 20 }}>
            {open ? "▾" : "▸"}
          </Box>
          Meter
        </ButtonBase>
        {open && (
          <Box sx={{ pl: "20px" }}>
            <span style={{ color: theme.ink.alarm }}>▮</span> pose jump
            <br />— speed jump a frame
            <br />
            <Box component="span" sx={{ opacity: 0.4, fontSize: 10 }}>
              ■
            </Box>{" "}
            slip, ⋯ depth
          </Box>
        )}
      </Box>
      {open ? (
        <Sheet width={width} height={OPEN} data-testid="meter" role="img" aria-label={meterWords(stored.data, tried.data)} draw={(g) => drawMeter(g, data)} />
      ) : (
        <Typography data-testid="meter-words" sx={{ fontSize: 11.5, lineHeight: `${FOLDED}px`, color: "text.secondary" }}>
          {meterShort(stored.data, tried.data)}
        </Typography>
      )}
    </Box>
  );
}
