import { Box, Button, Slider, Typography } from "@mui/material";
import { NumberField } from "../bench/NumberField";
import type { FitPart, Setting } from "../shared/api";
import { shownNumber, storedNumber } from "../shared/format";

/** How a figure reads: degrees, millimetres, or a share in percent. */
const shown = (s: Setting, value: number) => Math.round(10 * (s.unit ? shownNumber(value, s.unit) : 100 * value)) / 10;
const stored = (s: Setting, value: number) => (s.unit ? storedNumber(value, s.unit) : value / 100);
const unitOf = (s: Setting) => ({ rad: "°", m: "mm" })[s.unit] ?? "%";

interface SettingsProps {
  part: FitPart;
  asked: Record<string, number> | undefined;
  onSet: (id: string, value: number) => void;
  /** The one whose place is to be clicked on the body. */
  pointing: string | null;
  onPointing: (id: string | null) => void;
}

/** The figures of a part, each with a slider and a field; one that is other than it was says so, and goes back by a click. Places can
 * be pointed at on the body. */
export function Settings({ part, asked, onSet, pointing, onPointing }: SettingsProps) {
  return part.settings.map((given) => {
    // What was asked for stands there at once; how the body moves by it follows.
    const s = { ...given, value: asked?.[given.id] ?? given.value };
    const changed = s.before !== null && Math.abs(s.before - s.value) > 1e-9;
    const label = `${s.label}, ${part.label}`;
    return (
      <Box key={s.id} sx={{ mb: 0.5 }}>
        <Box sx={{ display: "flex", alignItems: "baseline", gap: 0.5 }}>
          <Typography sx={{ flexGrow: 1, fontSize: 13.5 }}>{s.label}</Typography>
          {changed && (
            <Button size="small" onClick={() => onSet(s.id, s.before!)} title="As it was" sx={{ minWidth: 0, py: 0, fontSize: 12, whiteSpace: "nowrap", flexShrink: 0 }}>
              was {shown(s, s.before!)}
            </Button>
          )}
          {s.places.length > 0 && (
            <Button size="small" variant={s.id === pointing ? "contained" : "text"} disableElevation aria-pressed={s.id === pointing} aria-label={`Point at ${label}`} title="Click it on the body" onClick={() => onPointing(s.id === pointing ? null : s.id)} sx={{ minWidth: 0, px: 0.75, py: 0, fontSize: 12.5 }}>
              point
            </Button>
          )}
          <NumberField late label={label} value={shown(s, s.value)} least={shown(s, s.least)} most={shown(s, s.most)} onChange={(v) => onSet(s.id, Math.min(Math.max(stored(s, v), s.least), s.most))} />
          <Typography sx={{ fontSize: 12.5, width: 22 }}>{unitOf(s)}</Typography>
        </Box>
        <Slider size="small" aria-label={label} value={s.value} min={s.least} max={s.most} step={(s.most - s.least) / 200} onChange={(_, v) => onSet(s.id, v as number)} sx={{ py: 0.75, display: "block" }} />
      </Box>
    );
  });
}
