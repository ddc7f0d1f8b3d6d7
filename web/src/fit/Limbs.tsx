import { Box, Button, MenuItem, Select, Typography } from "@mui/material";
import type { FitInfo, LimbSaid } from "../shared/api";

const CORNERS = ["begins at", "bends at", "ends at"];
const ROLES = { arm: "an arm", leg: "a leg" };

/** What a corner of a limb is called: all between its ends bend. */
const cornerName = (k: number, count: number) => CORNERS[k === 0 ? 0 : k === count - 1 ? 2 : 1]!;

/** Which joints a body's limbs begin, bend and end at, what they are and on which side: corrected by choosing. */
export function Limbs({ info, limbs, at, onChange }: { info: FitInfo; limbs: LimbSaid[]; at: number; onChange: (limbs: LimbSaid[]) => void }) {
  const limb = limbs[at];
  if (!limb) return null;
  const change = (what: Partial<LimbSaid>) => onChange(limbs.map((l, k) => (k === at ? { ...l, ...what } : l)));
  const choice = (label: string, value: string, options: string[], put: (v: string) => void, read?: (o: string) => string) => (
    <Box key={label} sx={{ display: "flex", alignItems: "baseline", gap: 1 }}>
      <Typography sx={{ width: 76, fontSize: 13.5 }}>{label.replace(/ \d+$/, "")}</Typography>
      <Select size="small" variant="standard" value={value} onChange={(e) => put(e.target.value)} inputProps={{ "aria-label": label }} sx={{ flexGrow: 1, fontSize: 13.5 }}>
        {options.map((o) => (
          <MenuItem key={o} value={o}>
            {read ? read(o) : o}
          </MenuItem>
        ))}
      </Select>
    </Box>
  );
  return (
    <Box component="fieldset" disabled={info.closed !== ""} sx={{ border: 0, p: 0, m: 0, mb: 1.5, "&:disabled": { opacity: 0.55, pointerEvents: "none" } }}>
      {limb.corners.map((joint, k) => choice(`${cornerName(k, limb.corners.length)}${k > 1 && k < limb.corners.length - 1 ? ` ${k}` : ""}`, joint, info.joints.slice(1), (v) => change({ corners: limb.corners.map((j, n) => (n === k ? v : j)) })))}
      {choice("is", limb.role, ["arm", "leg"], (v) => change({ role: v as LimbSaid["role"] }), (o) => ROLES[o as LimbSaid["role"]])}
      {choice("on the", limb.side, ["left", "right"], (v) => change({ side: v as LimbSaid["side"] }))}
      <Button size="small" variant={limb.flipped ? "contained" : "outlined"} disableElevation aria-pressed={limb.flipped} onClick={() => change({ flipped: !limb.flipped })} sx={{ mt: 1, mr: 1 }}>
        Bends the other way
      </Button>
      <Button size="small" color="error" onClick={() => onChange(limbs.filter((_, k) => k !== at))} sx={{ mt: 1 }}>
        No limb
      </Button>
    </Box>
  );
}

/** A limb more: of the first three joints in a row that no limb has. */
export function another(info: FitInfo, limbs: LimbSaid[]): LimbSaid | null {
  const above = (j: number): number[] => (j > 0 ? [...above(info.parents[j]!), j] : []);
  const taken = new Set(limbs.flatMap((l) => above(info.joints.indexOf(l.corners.at(-1)!)).slice(above(info.joints.indexOf(l.corners[0]!)).length - 1)));
  for (let j = 1; j < info.joints.length; j++) {
    const path = above(j).slice(-3);
    if (path.length === 3 && !path.some((k) => taken.has(k))) return { corners: path.map((k) => info.joints[k]!), role: "arm", side: "left", flipped: false };
  }
  return null;
}
