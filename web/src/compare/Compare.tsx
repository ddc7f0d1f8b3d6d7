import { Alert, Box, Button, MenuItem, Select, Typography, useTheme } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { PoseBank } from "../bench/poses";
import { NOTHING, useBench, usePick } from "../bench/state";
import { usePlayback } from "../bench/playback";
import { View } from "../bench/stage/View";
import { get, type Compared, type Revision, type SceneEntry, type TakeInfo } from "../shared/api";
import { degrees, mm } from "../shared/format";
import { Mark } from "../shared/Mark";
import { go } from "../shared/route";
import { Figures } from "./CompareFigures";
import { farthest, framingAt } from "./drawDifference";
import { Strip } from "./Strip";

/** The address of a comparison: revision `a` of a take beside revision `b` of it, or of another take. */
const addressOf = (take: number, a: number, b: number, other: number) => `/take/${take}/compare/${a}/${b}${other === take ? "" : `?with=${other}`}`;

/** Two revisions of a take, or of two takes of a scene: overlaid in the view, their difference over time, their figures side by side. */
export default function Compare({ takeId, a, b, other }: { takeId: number; a: number; b: number; other: number }) {
  const theme = useTheme();
  const { info, frame, playing, set, toFrame } = usePick("info", "frame", "playing", "set", "toFrame");
  const one = useQuery({ queryKey: ["take", takeId, a], queryFn: () => get<TakeInfo>(`/takes/${takeId}?revision=${a}`) });
  const two = useQuery({ queryKey: ["take", other, b], queryFn: () => get<TakeInfo>(`/takes/${other}?revision=${b}`) });
  const revisionsOf = (take: number) => ({ queryKey: ["revisions", take], queryFn: () => get<Revision[]>(`/takes/${take}/revisions`) });
  const revisions = useQuery(revisionsOf(takeId));
  const others = useQuery(revisionsOf(other));
  const takes = useQuery({ queryKey: ["scenes"], queryFn: () => get<SceneEntry[]>("/scenes") }).data?.find((s) => s.takes.some((t) => t.id === takeId))?.takes ?? [];
  const found = useQuery({ queryKey: ["compare", takeId, a, b, other], queryFn: () => get<Compared>(`/takes/${takeId}/compare?a=${a}&b=${b}${other === takeId ? "" : `&take_b=${other}`}`), staleTime: Infinity });
  usePlayback();

  useEffect(() => {
    const data = one.data;
    if (!data) return;
    const bank = new PoseBank(data.id, data.first, data.last);
    const before = useBench.getState();
    const kept = { controls: before.controls, ghosts: before.ghosts };
    const ghost = two.data && other !== takeId ? new PoseBank(other, two.data.first, two.data.last) : null;
    set({ ...NOTHING, info: data, bank, beside: b, besideBank: ghost, controls: false, ghosts: false, pinned: [], live: null, frame: Math.min(Math.max(before.frame, data.first), data.last), playing: false });
    return () => set({ ...kept, beside: null, besideBank: null, info: null, bank: null, playing: false });
  }, [one.data, two.data, b, other, takeId, set]);

  const opened = useRef<Compared | null>(null);
  useEffect(() => {
    const data = found.data;
    if (!info || !data || opened.current === data) return;
    opened.current = data;
    // Where both are alike there is nothing to see: it opens where they are farthest apart.
    const there = farthest(data);
    const apart = (at: number) => data.place[at - data.frames[0]!] ?? 0;
    const to = apart(frame) <= 0.02 * apart(there) ? there : frame;
    if (to !== frame) toFrame(to);
    set({ framing: framingAt(data, to) });
  }, [info, found.data, frame, toFrame, set]);

  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      if (target.closest("input, textarea, [role=listbox], [role=combobox]")) return;
      // Space belongs to a button that has the focus.
      if (event.key === " " && target.closest("button, a")) return;
      const bench = useBench.getState();
      const actions: Record<string, () => void> = {
        " ": () => set({ playing: !bench.playing }),
        ArrowLeft: () => toFrame(bench.frame - 1),
        ArrowRight: () => toFrame(bench.frame + 1),
        Escape: () => go(`/take/${takeId}`),
      };
      const action = actions[event.key];
      if (!action) return;
      event.preventDefault();
      action();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [set, toFrame, takeId]);

  const label = (r: Revision) => `${r.number} · ${r.name ?? r.label}`;
  const choose = (which: string, all: Revision[], value: number, onChange: (id: number) => void) => (
    <Select size="small" variant="standard" value={value} onChange={(e) => onChange(Number(e.target.value))} inputProps={{ "aria-label": which }} sx={{ maxWidth: 260, fontSize: 13 }}>
      {all.map((r) => (
        <MenuItem key={r.id} value={r.id}>
          {label(r)}
        </MenuItem>
      ))}
    </Select>
  );
  /** Another take is compared as it is now. */
  const withTake = async (id: number) => go(addressOf(takeId, a, id === takeId ? a : (await get<TakeInfo>(`/takes/${id}`)).revision, id));
  const error = one.error ?? two.error ?? found.error;
  return (
    <Box sx={{ height: "100%", display: "grid", gridTemplateRows: "46px minmax(240px, 1fr) auto" }}>
      <Box component="header" sx={{ display: "flex", alignItems: "center", gap: 1.5, px: 1.5, borderBottom: 1, borderColor: "divider", bgcolor: "background.paper" }}>
        <Button onClick={() => go("/")} aria-label="Home" title="Home" sx={{ minWidth: 0, color: "text.primary" }}>
          <Mark size={26} />
        </Button>
        <Typography component="h1" sx={{ fontSize: 16, fontWeight: 650 }}>
          Compare <i>{one.data?.name}</i>
        </Typography>
        {revisions.data && choose("First revision, drawn as it is", revisions.data, a, (id) => go(addressOf(takeId, id, b, other)))}
        <span aria-hidden>↔</span>
        {takes.length > 1 && (
          <Select size="small" variant="standard" value={other} onChange={(e) => void withTake(Number(e.target.value))} inputProps={{ "aria-label": "Second take" }} sx={{ maxWidth: 200, fontSize: 13, fontStyle: "italic" }}>
            {takes.map((t) => (
              <MenuItem key={t.id} value={t.id}>
                {t.name}
              </MenuItem>
            ))}
          </Select>
        )}
        {others.data && choose("Second revision, drawn as a ghost", others.data, b, (id) => go(addressOf(takeId, a, id, other)))}
        <Box sx={{ flexGrow: 1 }} />
        <Button size="small" onClick={() => go(addressOf(other, b, a, takeId))}>
          Swap
        </Button>
        <Button size="small" variant="outlined" onClick={() => go(`/take/${takeId}`)}>
          Back to the bench
        </Button>
      </Box>
      <Box component="main" sx={{ position: "relative", overflow: "hidden" }}>
        {error && <Alert severity="error">{error.message}</Alert>}
        {info && one.data && info.revision === a && <View info={info} />}
        {found.data && <Figures data={found.data} one={one.data} two={two.data} />}
      </Box>
      <Box component="section" aria-label="Difference over time" sx={{ borderTop: 1, borderColor: "divider", bgcolor: "background.default", p: 1 }}>
        <Box sx={{ display: "flex", alignItems: "center", gap: 1, mb: 0.5 }}>
          <Button size="small" variant={playing ? "contained" : "outlined"} disableElevation onClick={() => set({ playing: !playing })} sx={{ minWidth: 74 }}>
            {playing ? "Stop" : "Play"}
          </Button>
          <Typography sx={{ fontSize: 18, fontWeight: 700, minWidth: 48, textAlign: "right" }}>{frame}</Typography>
          <Typography color="text.secondary" data-testid="difference-here">
            {found.data ? here(found.data, frame) : "Measuring…"}
          </Typography>
        </Box>
        {found.data && <Strip data={found.data} frame={frame} onFrame={toFrame} ink={theme.ink} />}
      </Box>
    </Box>
  );
}

function here(data: Compared, frame: number): string {
  const k = frame - data.frames[0]!;
  const place = data.place[k];
  return place === undefined ? "" : `${mm(place)} and ${degrees(data.turn[k]!)} apart at this frame`;
}
