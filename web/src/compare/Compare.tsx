import { Alert, Box, Button, MenuItem, Select, Typography, useTheme } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { PoseBank } from "../bench/poses";
import { Sheet } from "../bench/Sheet";
import { NOTHING, useBench, usePick } from "../bench/state";
import { usePlayback } from "../bench/Transport";
import { View } from "../bench/View";
import { get, type Compared, type Revision, type TakeInfo } from "../shared/api";
import { follow } from "../shared/drag";
import { degrees, mm } from "../shared/format";
import { Mark } from "../shared/Mark";
import { go } from "../shared/route";
import { drawDifference, frameAt } from "./drawDifference";

/** Two revisions of a take: overlaid in the view, their difference over time, their figures side by side. */
export default function Compare({ takeId, a, b }: { takeId: number; a: number; b: number }) {
  const theme = useTheme();
  const { info, frame, playing, set, toFrame } = usePick("info", "frame", "playing", "set", "toFrame");
  const one = useQuery({ queryKey: ["take", takeId, a], queryFn: () => get<TakeInfo>(`/takes/${takeId}?revision=${a}`) });
  const two = useQuery({ queryKey: ["take", takeId, b], queryFn: () => get<TakeInfo>(`/takes/${takeId}?revision=${b}`) });
  const revisions = useQuery({ queryKey: ["revisions", takeId], queryFn: () => get<Revision[]>(`/takes/${takeId}/revisions`) });
  const found = useQuery({ queryKey: ["compare", takeId, a, b], queryFn: () => get<Compared>(`/takes/${takeId}/compare?a=${a}&b=${b}`), staleTime: Infinity });
  usePlayback();

  useEffect(() => {
    const data = one.data;
    if (!data) return;
    const bank = new PoseBank(data.id, data.first, data.last, data.rows);
    const before = useBench.getState();
    const kept = { controls: before.controls, ghosts: before.ghosts };
    set({ ...NOTHING, info: data, bank, beside: b, controls: false, ghosts: false, pinned: [], live: null, frame: Math.min(Math.max(before.frame, data.first), data.last), playing: false });
    return () => set({ ...kept, beside: null, info: null, bank: null, playing: false });
  }, [one.data, b, set]);

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
  const choose = (which: string, value: number, onChange: (id: number) => void) => (
    <Select size="small" variant="standard" value={value} onChange={(e) => onChange(Number(e.target.value))} inputProps={{ "aria-label": which }} sx={{ maxWidth: 330, fontSize: 13 }}>
      {(revisions.data ?? []).map((r) => (
        <MenuItem key={r.id} value={r.id}>
          {label(r)}
        </MenuItem>
      ))}
    </Select>
  );
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
        {revisions.data && choose("First revision, drawn as it is", a, (id) => go(`/take/${takeId}/compare/${id}/${b}`))}
        <span aria-hidden>↔</span>
        {revisions.data && choose("Second revision, drawn as a ghost", b, (id) => go(`/take/${takeId}/compare/${a}/${id}`))}
        <Box sx={{ flexGrow: 1 }} />
        <Button size="small" onClick={() => go(`/take/${takeId}/compare/${b}/${a}`)}>
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

function Strip({ data, frame, onFrame, ink }: { data: Compared; frame: number; onFrame: (f: number) => void; ink: Parameters<typeof drawDifference>[1]["ink"] }) {
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  const rows = useMemo(() => data.parts.slice(0, 5), [data]);
  const height = 40 + 20 * rows.length;
  useEffect(() => {
    const watch = new ResizeObserver(([entry]) => setWidth(Math.floor(entry!.contentRect.width)));
    if (box.current) watch.observe(box.current);
    return () => watch.disconnect();
  }, []);
  const scrub = (event: React.PointerEvent<HTMLCanvasElement>) => {
    const left = event.currentTarget.getBoundingClientRect().left;
    const move = (e: { clientX: number }) => onFrame(frameAt(e.clientX - left, data, width));
    move(event);
    follow(move);
  };
  const worst = Math.max(0, ...data.place);
  return (
    <div ref={box}>
      <Sheet
        width={width}
        height={height}
        data-testid="difference"
        role="img"
        aria-label={`Difference over time: at most ${mm(worst)}; ${rows.map((r) => `${r.label} ${mm(Math.max(...r.place))}`).join(", ")}`}
        onPointerDown={scrub}
        draw={(g) => drawDifference(g, { data, rows, frame, width, height, ink })}
      />
    </div>
  );
}

function Figures({ data, one, two }: { data: Compared; one: TakeInfo | undefined; two: TakeInfo | undefined }) {
  const { toFrame } = useBench.getState();
  const proof = data.proof;
  const rows: [string, string, string][] = [
    ["open findings", String(data.findings_a), String(data.findings_b)],
    ["keys", String(data.keys_a), String(data.keys_b)],
    ["greatest jump at a change", mm(Math.max(0, ...proof.changes.map((c) => c.pose_before))), mm(Math.max(0, ...proof.changes.map((c) => c.pose)))],
    ["greatest speed jump, a frame", mm(Math.max(0, ...proof.changes.map((c) => c.speed_before))), mm(Math.max(0, ...proof.changes.map((c) => c.speed)))],
  ];
  return (
    <Box component="section" aria-label="Figures" data-testid="figures" sx={{ position: "absolute", right: 12, top: 12, width: 340, p: 1.5, bgcolor: "background.paper", border: 1, borderColor: "divider", borderRadius: 1, fontSize: 13 }}>
      <Box component="table" sx={{ width: "100%", "& th, & td": { textAlign: "right", py: 0.25 }, "& th:first-of-type, & td:first-of-type": { textAlign: "left" } }}>
        <thead>
          <tr>
            <td />
            <th>{one ? `${one.number}, as it is` : "first"}</th>
            <th>{two ? `${two.number}, ghost` : "second"}</th>
          </tr>
        </thead>
        <tbody>
          {rows.map(([what, x, y]) => (
            <tr key={what}>
              <td>{what}</td>
              <td>
                <b>{x}</b>
              </td>
              <td>
                <b>{y}</b>
              </td>
            </tr>
          ))}
        </tbody>
      </Box>
      <Typography sx={{ fontSize: 13, mt: 0.5 }}>
        At most <b data-testid="most">{mm(proof.departure_place.value)}</b> and {degrees(proof.departure_turn.value)} apart; keys: {proof.keys.kept} in both, {proof.keys.added} added, {proof.keys.removed} removed.
      </Typography>
      <Button size="small" onClick={() => toFrame(proof.departure_place.frame)}>
        Worst frame: {proof.departure_place.frame}, {proof.departure_place.joint}
      </Button>
    </Box>
  );
}
