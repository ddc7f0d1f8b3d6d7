import { Alert, Box, Button, Typography, useTheme } from "@mui/material";
import { useCallback, useEffect, useState } from "react";
import type { Vector3 } from "three";
import { usePlayback } from "../bench/playback";
import { View } from "../bench/stage/View";
import { useBench, usePick } from "../bench/state";
import type { FitInfo, FitPart } from "../shared/api";
import { Mark } from "../shared/Mark";
import { go } from "../shared/route";
import { sideMark } from "../shared/theme";
import { another, Limbs } from "./Limbs";
import { Places } from "./Places";
import { Settings } from "./Settings";
import { NO_CHANGES, useFit, useShown } from "./useFit";

/** How a body is fitted: its parts, corrected, with their figures as sliders, and how each of them moves by them. */
export default function Fit({ sceneId, member, first }: { sceneId: number; member: string; first: string }) {
  const fit = useFit(sceneId, member, first);
  const { info, changes, part: name, refused, applying } = fit;
  const { info: shown, lookedAt, playing, set } = usePick("info", "lookedAt", "playing", "set");
  const [alike, setAlike] = useState(true);
  useShown(info, name);
  usePlayback();
  const part = info?.parts.find((p) => p.name === name);
  const [wanted, setPointing] = useState<string | null>(null);
  const pointing = part?.settings.find((s) => s.id === wanted && s.places.length > 0);
  const aim = useCallback(
    (id: string | null) => {
      setPointing(id);
      const joint = part?.settings.find((s) => s.id === id)?.joint;
      // At rest nothing is hidden by how it moves.
      if (joint && shown) set({ playing: false, frame: shown.first, framing: { what: "part", from: joint } });
      else set({ framing: { what: "body" } });
    },
    [part, shown, set, setPointing],
  );
  useEffect(() => {
    // What was in hand may be gone with other limbs.
    if (info && !part) fit.setPart((info.parts.find((p) => p.corners.length && p.settings.length) ?? info.parts[0]!).name);
  }, [info, part, fit]);
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const own = "input, [role=listbox], [role=combobox]";
      // A button has Space for itself, and nothing to leave.
      if ((event.target as HTMLElement).closest(event.key === "Escape" ? own : `${own}, button, a`)) return;
      if (event.key === " ") set({ playing: !useBench.getState().playing });
      else if (event.key === "Escape") {
        if (pointing) aim(null);
        else history.back();
      }
      else return;
      event.preventDefault();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [set, pointing, aim]);
  const put = (id: string, value: number) => {
    if (!part || !info) return;
    fit.set(part.name, id, value);
    const other = alike && partner(info, part);
    if (other && other.settings.some((s) => s.id === id)) fit.set(other.name, id, value);
  };
  const place = async (at: Vector3) => {
    const value = await fit.point(pointing!.id, [at.x, at.y, at.z], useBench.getState().frame);
    if (value === null) return;
    put(pointing!.id, value);
    aim(null);
  };
  const limbs = changes.limbs ?? info?.limbs ?? [];
  const at = part ? limbs.findIndex((l) => part.corners.length && l.corners.at(-1) === part.corners.at(-1)) : -1;
  return (
    <Box sx={{ height: "100%", display: "grid", gridTemplateRows: "46px minmax(0, 1fr)", gridTemplateColumns: "264px minmax(0, 1fr) 316px" }}>
      <Box component="header" sx={{ gridColumn: "1 / -1", display: "flex", alignItems: "center", gap: 1.5, px: 1.5, borderBottom: 1, borderColor: "divider", bgcolor: "background.paper" }}>
        <Button onClick={() => go("/")} aria-label="Home" title="Home" sx={{ minWidth: 0, color: "text.primary" }}>
          <Mark size={26} />
        </Button>
        <Typography component="h1" sx={{ fontSize: 16, fontWeight: 650 }}>
          Fit <i>{info?.name}</i>
        </Typography>
        {info && info.scene !== info.name && <Typography color="text.secondary">{info.scene}</Typography>}
        <Box sx={{ flexGrow: 1 }} />
        <Button size="small" disabled={changes === NO_CHANGES} onClick={fit.reset}>
          Put all back
        </Button>
        <Button size="small" variant="contained" disableElevation disabled={!info?.changed || refused !== "" || applying} onClick={() => void fit.apply()}>
          Apply
        </Button>
        <Button size="small" variant="outlined" onClick={() => history.back()}>
          Back
        </Button>
      </Box>
      <Box component="nav" aria-label="Parts" sx={{ overflow: "auto", borderRight: 1, borderColor: "divider", bgcolor: "background.paper", py: 1 }}>
        {info?.parts.map((p) => <Row key={p.name} part={p} chosen={p === part} onChoose={() => fit.setPart(p.name)} />)}
        {info && (
          <Button size="small" disabled={info.closed !== "" || !another(info, limbs)} onClick={() => fit.setLimbs([...limbs, another(info, limbs)!])} sx={{ mx: 1.5, mt: 1 }}>
            Another limb…
          </Button>
        )}
      </Box>
      <Box component="main" sx={{ position: "relative", overflow: "hidden" }}>
        {shown && lookedAt && (
          <View info={shown} onPlace={pointing && ((at) => void place(at))}>
            {part && <Places info={shown} member={info!.member} settings={part.settings} chosen={pointing?.id} />}
          </View>
        )}
        {pointing && (
          <Typography role="status" sx={{ position: "absolute", top: 12, left: 12, px: 1.5, py: 0.5, borderRadius: 1, bgcolor: "background.paper" }}>
            Click the body: {pointing.label}. Esc leaves it.
          </Typography>
        )}
        <Box sx={{ position: "absolute", left: 12, bottom: 12, display: "flex", gap: 1, alignItems: "center" }}>
          <Button size="small" variant={playing ? "contained" : "outlined"} disableElevation onClick={() => set({ playing: !playing })}>
            {playing ? "Stop" : "Play"}
          </Button>
          {part && !part.moves && <Typography color="text.secondary">The {part.label} is posed by hand alone: there is nothing to show.</Typography>}
        </Box>
        {refused && (
          <Alert severity="error" sx={{ position: "absolute", top: 12, left: 12, right: 12 }}>
            {refused}
          </Alert>
        )}
      </Box>
      <Box component="aside" aria-label="Part" sx={{ overflow: "auto", borderLeft: 1, borderColor: "divider", bgcolor: "background.paper", p: 2 }}>
        {info && part && (
          <>
            <Typography component="h2" sx={{ fontSize: 17, fontWeight: 650, mb: 0.5 }}>
              {part.label}
            </Typography>
            <Typography color="text.secondary" sx={{ fontSize: 13, mb: 1.5, overflowWrap: "anywhere" }}>
              {part.joints.join(", ")}
            </Typography>
            {at >= 0 && <Limbs info={info} limbs={limbs} at={at} onChange={fit.setLimbs} />}
            {partner(info, part) && part.settings.length > 0 && (
              <Button size="small" variant={alike ? "contained" : "outlined"} disableElevation aria-pressed={alike} onClick={() => setAlike(!alike)} sx={{ mb: 1 }}>
                Both sides alike
              </Button>
            )}
            <Settings part={part} asked={changes.settings[part.name]} onSet={put} pointing={pointing?.id ?? null} onPointing={aim} />
            {info.closed && at >= 0 && (
              <Typography color="text.secondary" sx={{ fontSize: 13, mt: 1 }}>
                {info.closed}
              </Typography>
            )}
            <Checks info={info} />
          </>
        )}
      </Box>
    </Box>
  );
}

/** The same part on the other side. */
const partner = (info: FitInfo, part: FitPart) => {
  const other = part.side === "left" ? "right" : part.side === "right" ? "left" : "";
  return other ? info.parts.find((p) => p.side === other && p.label === part.label.replace(part.side, other)) : undefined;
};

/** A part in the list: its side by hue and mark, and whether anything of it is other than it was. */
function Row({ part, chosen, onChoose }: { part: FitPart; chosen: boolean; onChoose: () => void }) {
  const { ink } = useTheme();
  const changed = part.settings.some((s) => s.before === null || Math.abs(s.before - s.value) > 1e-9);
  return (
    <Button onClick={onChoose} aria-current={chosen} sx={{ display: "flex", width: "100%", justifyContent: "flex-start", gap: 1, px: 1.5, py: 0.35, borderRadius: 0, color: "text.primary", textTransform: "none", fontWeight: chosen ? 650 : 400, bgcolor: chosen ? ink.accentSoft : undefined }}>
      <Box component="span" aria-hidden sx={{ color: ink[part.side as "left" | "right" | "middle"], width: 14 }}>
        {sideMark[part.side]}
      </Box>
      <span>{part.label}</span>
      <Box component="span" sx={{ flexGrow: 1 }} />
      {changed && <span title="Other than it was">●</span>}
      <Typography component="span" color="text.secondary" sx={{ fontSize: 12 }}>
        {part.joints.length} {part.joints.length === 1 ? "joint" : "joints"}
      </Typography>
    </Button>
  );
}

/** What was measured, and what was noticed when the body was brought in. */
function Checks({ info }: { info: FitInfo }) {
  return (
    <Box component="section" aria-label="Checks" sx={{ mt: 2, borderTop: 1, borderColor: "divider", pt: 1.5, fontSize: 13 }}>
      {info.checks.map((c) => (
        <Box key={c.sentence} sx={{ display: "flex", gap: 1, mb: 0.5, color: c.well ? undefined : "error.main" }}>
          <span aria-label={c.well ? "well" : "to be looked at"}>{c.well ? "✓" : "▲"}</span>
          <span>{c.sentence}.</span>
        </Box>
      ))}
      {info.notes.map((n) => (
        <Typography key={n} color="text.secondary" sx={{ fontSize: 12.5, mb: 0.5 }}>
          {n}
        </Typography>
      ))}
    </Box>
  );
}
