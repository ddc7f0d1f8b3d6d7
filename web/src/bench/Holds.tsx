import { Box, Link, Paper, Typography, useTheme } from "@mui/material";
import type { TakeInfo } from "../shared/api";
import { sideMark } from "../shared/theme";
import { holdsAt } from "./holds";
import { same, useBench, usePick } from "./state";

/** Who holds on to what at this frame, each member of the cast by itself. */
export function Holds({ info }: { info: TakeInfo }) {
  const theme = useTheme();
  const { focus, set } = usePick("focus", "set");
  const frame = useBench((s) => s.frame);
  const members = holdsAt(info, frame);
  const hue = (side: string) => (side === "left" ? theme.ink.left : side === "right" ? theme.ink.right : theme.ink.middle);
  return (
    <Paper variant="outlined" component="section" aria-label="Who holds on to what" sx={{ px: 1.25, py: 0.75, maxWidth: 300, maxHeight: "45%", overflow: "auto" }}>
      {members.length === 0 && <Typography sx={{ fontSize: 12.5 }}>Nothing follows anything at frame {frame}.</Typography>}
      {members.map((m) => (
        <Box key={m.member} sx={{ display: "grid", gridTemplateColumns: "auto auto 1fr", columnGap: 0.75, alignItems: "baseline" }}>
          {m.holds.length > 1 && <Typography sx={{ gridColumn: "1 / -1", fontSize: 12.5, fontWeight: 700 }}>{m.name}</Typography>}
          {m.holds.map((h) => (
            <Box key={`${h.part} ${h.label} ${h.anchor}`} sx={{ display: "contents" }}>
              <Link
                component="button"
                underline="hover"
                aria-current={same(h, focus)}
                onClick={() => set({ focus: { member: h.member, part: h.part } })}
                sx={{ fontSize: 12.5, textAlign: "left", color: hue(h.side), fontWeight: same(h, focus) ? 700 : 500 }}
              >
                <span aria-hidden>{sideMark[h.side]} </span>
                {m.holds.length === 1 && h.label.toLowerCase() !== m.name.toLowerCase() ? `${m.name}, ${h.label}` : h.label}
              </Link>
              <Typography aria-hidden sx={{ fontSize: 12.5, color: "text.secondary" }}>
                {h.turns ? "↻" : "→"}
              </Typography>
              <Typography sx={{ fontSize: 12.5 }}>
                <Box component="span" sx={{ position: "absolute", width: "1px", height: "1px", overflow: "hidden", clipPath: "inset(50%)" }}>
                  {h.turns ? "turns with " : "follows "}
                </Box>
                {h.anchor}
              </Typography>
            </Box>
          ))}
        </Box>
      ))}
    </Paper>
  );
}
