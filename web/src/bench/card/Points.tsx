import { Box, Button, Typography } from "@mui/material";
import { sameHandle, same, usePick } from "../state";

/** Points of the part in hand to turn about: the one that is chosen is what its control turns about. */
export function Points() {
  const { info, focus, about, set } = usePick("info", "focus", "about", "set");
  const points = info!.handles.filter((h) => h.turns && same(h, focus));
  if (!points.length) return null;
  return (
    <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "center", columnGap: 0.5 }}>
      <Typography sx={{ fontSize: 12.5 }}>Turns about</Typography>
      {points.map((p) => {
        const mine = about !== null && sameHandle(about, p);
        return (
          <Button key={p.control} size="small" aria-pressed={mine} variant={mine ? "contained" : "outlined"} disableElevation onClick={() => set({ about: mine ? null : p, turning: !mine })} sx={{ py: 0, px: 0.75, minWidth: 0, fontSize: 12 }}>
            {p.label}
          </Button>
        );
      })}
    </Box>
  );
}
