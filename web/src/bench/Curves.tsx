import { Box, Button, ButtonGroup, Checkbox, FormControlLabel, IconButton, Tooltip, Typography, useTheme } from "@mui/material";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { get, type CurveInfo, type CurveKey, type TakeInfo } from "../shared/api";
import { follow } from "../shared/drag";
import { useSize } from "../shared/useSize";
import { useActions } from "./actions";
import { drawCurves, handlesAt, heightsOf, styleOf, valueOf, withKeys } from "./drawCurves";
import { named } from "./keysInHand";
import { NumberField } from "./NumberField";
import { Sheet } from "./Sheet";
import { scaleOf } from "./timeline/scale";
import { usePick, type KeyRef } from "./state";

/** Curves of these channels at a revision. */
export function useCurves(info: TakeInfo, channels: string[], revision: number | null) {
  const query = channels.map((c) => `channel=${encodeURIComponent(c)}`).join("&");
  return useQuery({
    queryKey: ["curves", info.id, revision, query],
    queryFn: () => get<CurveInfo[]>(`/takes/${info.id}/curves?${query}&revision=${revision}`),
    enabled: channels.length > 0 && revision !== null,
    placeholderData: keepPreviousData,
    staleTime: Infinity,
  });
}

/** Height of the row of tools. */
const TOOLS = 30;
const NO_CURVES: CurveInfo[] = [];

/** The chosen channels as curves, in place of the strands: keys and slopes to drag, the last operation's before. */
export function Curves({ info, labels, width }: { info: TakeInfo; labels: number; width: number }) {
  const theme = useTheme();
  const { channels, picked, shown, frame, set, toFrame } = usePick("channels", "picked", "shown", "frame", "set", "toFrame");
  const { edit } = useActions();
  const now = useCurves(info, channels, info.revision).data ?? NO_CURVES;
  const before = useCurves(info, channels, info.parent).data ?? NO_CURVES;
  const [dragged, setDragged] = useState<CurveInfo[] | null>(null);
  const [box, setBox] = useState<{ x0: number; y0: number; x1: number; y1: number } | null>(null);
  const curves = dragged ?? now;
  const frameBox = useRef<HTMLDivElement>(null);
  const room = Math.max(useSize(frameBox).height - TOOLS, 40);
  const mixed = new Set(now.map((c) => c.unit)).size > 1;
  const [own, setOwn] = useState(false);
  const apart = own || mixed;
  const settled = useMemo(() => heightsOf({ curves: now, before, shown, height: room, own: apart }), [now, before, shown, room, apart]);
  const scale = scaleOf(shown, width);

  const nearest = (x: number, y: number): KeyRef | null => {
    let best: KeyRef | null = null;
    let least = 9;
    for (const c of now)
      for (const k of c.keys)
        for (const v of [k.leaving, k.arriving]) {
          const d = Math.hypot(scale.x(k.time) - x, settled.get(c.channel)!.y(v) - y);
          if (d < least) [least, best] = [d, { channel: c.channel, time: k.time }];
        }
    return best;
  };
  const slopeHandle = (x: number, y: number) => {
    for (const ref of picked) {
      const curve = now.find((c) => c.channel === ref.channel);
      const i = curve?.keys.findIndex((k) => k.time === ref.time) ?? -1;
      if (!curve || i < 0) continue;
      const height_ = settled.get(curve.channel)!;
      const hit = handlesAt(curve, i, scale, height_).find((h) => Math.hypot(h.x - x, h.y - y) < 8);
      if (hit) return { curve, key: curve.keys[i]!, side: hit.side, height: height_ };
    }
    return null;
  };

  const press = (event: React.PointerEvent<HTMLCanvasElement>) => {
    if (event.button !== 0) return;
    const bounds = event.currentTarget.getBoundingClientRect();
    const at = (e: { clientX: number; clientY: number }) => ({ x: e.clientX - bounds.left, y: e.clientY - bounds.top });
    const start = at(event);
    const slope = slopeHandle(start.x, start.y);
    if (slope) return dragSlope(slope, at);
    const hit = nearest(start.x, start.y);
    if (hit) return dragKeys(hit, start, at, event.shiftKey);
    // An empty place: a box, or the frame.
    follow(
      (e) => {
        const p = at(e);
        setBox({ x0: start.x, y0: start.y, x1: p.x, y1: p.y });
      },
      (e) => {
        const p = at(e);
        setBox(null);
        if (Math.hypot(p.x - start.x, p.y - start.y) < 4) {
          set({ picked: [] });
          toFrame(scale.frame(p.x));
          return;
        }
        const [x0, x1] = [Math.min(start.x, p.x), Math.max(start.x, p.x)];
        const [y0, y1] = [Math.min(start.y, p.y), Math.max(start.y, p.y)];
        const found = now.flatMap((c) =>
          c.keys
            .filter((k) => {
              const [x, y] = [scale.x(k.time), settled.get(c.channel)!.y(k.leaving)];
              return x >= x0 && x <= x1 && y >= y0 && y <= y1;
            })
            .map((k) => ({ channel: c.channel, time: k.time })),
        );
        set({ picked: event.shiftKey ? [...picked, ...found] : found });
      },
    );
  };

  const dragSlope = (slope: NonNullable<ReturnType<typeof slopeHandle>>, at: (e: PointerEvent) => { x: number; y: number }) => {
    const ref = [{ channel: slope.curve.channel, time: slope.key.time }];
    const joined = slope.key.arriving === slope.key.leaving && Math.abs(slope.key.slope_in - slope.key.slope_out) < 1e-12;
    let value = slope.side === "in" ? slope.key.slope_in : slope.key.slope_out;
    const given = (): Record<string, number> => (joined ? { slope_in: value, slope_out: value } : slope.side === "in" ? { slope_in: value } : { slope_out: value });
    follow(
      (e) => {
        const p = at(e);
        const dt = scale.frame(p.x) - slope.key.time;
        if (slope.side === "in" ? dt > -0.05 : dt < 0.05) return;
        value = (slope.height.value(p.y) - (slope.side === "in" ? slope.key.arriving : slope.key.leaving)) / dt;
        setDragged(withKeys(now, ref, (k) => ({ ...k, ...given() })));
      },
      () => void edit({ what: "set", keys: named(ref), values: given() }).finally(() => setDragged(null)),
    );
  };

  const dragKeys = (hit: KeyRef, start: { x: number; y: number }, at: (e: PointerEvent) => { x: number; y: number }, adding: boolean) => {
    const isPicked = picked.some((k) => k.channel === hit.channel && k.time === hit.time);
    const chosen = isPicked ? (adding ? picked.filter((k) => k.channel !== hit.channel || k.time !== hit.time) : picked) : adding ? [...picked, hit] : [hit];
    set({ picked: chosen });
    const height_ = settled.get(hit.channel)!;
    let by = 0;
    let rise = 0;
    follow(
      (e) => {
        const p = at(e);
        by = Math.round(scale.frame(p.x) - scale.frame(start.x));
        rise = Math.abs(p.y - start.y) < 3 ? 0 : height_.value(p.y) - height_.value(start.y);
        // Ctrl keeps the value, so that keys move in time alone.
        if (e.ctrlKey) rise = 0;
        setDragged(withKeys(now, chosen, (k) => ({ ...k, time: k.time + by, arriving: k.arriving + rise, leaving: k.leaving + rise })));
      },
      () => {
        if (by === 0 && rise === 0) {
          setDragged(null);
          toFrame(hit.time);
          return;
        }
        void edit({ what: "move", keys: named(chosen), by, rise }).then((done) => {
          setDragged(null);
          if (done) set({ picked: chosen.map((k) => ({ ...k, time: k.time + by })) });
        });
      },
    );
  };

  const insertAt = (event: React.MouseEvent<HTMLCanvasElement>) => {
    const bounds = event.currentTarget.getBoundingClientRect();
    const t = Math.round(scale.frame(event.clientX - bounds.left));
    const y = event.clientY - bounds.top;
    const curve = [...now].sort((a, b) => Math.abs(settled.get(a.channel)!.y(valueOf(a, t)) - y) - Math.abs(settled.get(b.channel)!.y(valueOf(b, t)) - y))[0];
    if (curve) void edit({ what: "add", keys: [{ channel: curve.channel, times: [t] }] }).then((done) => done && set({ picked: [{ channel: curve.channel, time: t }] }));
  };

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
          <Typography sx={{ position: "absolute", inset: 0, p: 3, color: "text.secondary", pointerEvents: "none" }}>
            No curve is laid out: tick channels in the part card. Drag keys and the handles of picked ones; a double click puts a key; the dashed line is what was there before the last operation.
          </Typography>
        )}
      </Box>
    </Box>
  );
}

/** What can be done with the keys in hand. */
function KeyTools({ keys, picked, frame, words }: { keys: CurveKey[]; picked: KeyRef[]; frame: number; words: string }) {
  const { edit } = useActions();
  const { channels, set } = usePick("channels", "set");
  const [factor, setFactor] = useState(1.5);
  const all = named(picked);
  const none = keys.length === 0;
  const give = (values: Record<string, number>) => void edit({ what: "set", keys: all, values });
  const is = (field: "kind" | "rule", value: number) => !none && keys.every((k) => k[field] === value);
  const scaled = () =>
    void edit({ what: "scale", keys: all, about: frame, factor }).then((done) => done && set({ picked: picked.map((k) => ({ ...k, time: frame + factor * (k.time - frame) })) }));
  return (
    <Box role="toolbar" aria-label="Keys in hand" sx={{ height: TOOLS, display: "flex", gap: 0.75, alignItems: "center", px: 1, fontSize: 12, "& .MuiButton-root": { py: 0, minWidth: 0, fontSize: 12 } }}>
      <span data-testid="picked">{words}</span>
      <Tooltip title="A key of every laid-out channel at this frame">
        <span>
          <Button size="small" disabled={!channels.length} onClick={() => void edit({ what: "add", keys: channels.map((channel) => ({ channel, times: [frame] })) })}>
            Add
          </Button>
        </span>
      </Tooltip>
      <ButtonGroup size="small" disabled={none} variant="outlined" aria-label="Kind">
        {["stepped", "linear", "smooth"].map((label, k) => (
          <Button key={label} variant={is("kind", k) ? "contained" : "outlined"} disableElevation onClick={() => give({ kind: k })}>
            {label}
          </Button>
        ))}
      </ButtonGroup>
      <ButtonGroup size="small" disabled={none} variant="outlined" aria-label="Slope">
        {["free", "automatic", "flat"].map((label, k) => (
          <Button key={label} variant={is("rule", k) ? "contained" : "outlined"} disableElevation onClick={() => give({ rule: k })}>
            {label}
          </Button>
        ))}
      </ButtonGroup>
      <Button size="small" disabled={none} onClick={() => give({ lock: keys.every((k) => k.lock) ? 0 : 1 })}>
        {keys.length > 0 && keys.every((k) => k.lock) ? "unlock" : "lock"}
      </Button>
      <Button size="small" disabled={none} onClick={() => give({ tag: keys.every((k) => k.tag === 2) ? 0 : 2 })} title="A mark of your own on these keys">
        {keys.length > 0 && keys.every((k) => k.tag === 2) ? "untag" : "tag"}
      </Button>
      <Button size="small" disabled={none} onClick={scaled} title="Times of these keys about the current frame">
        × {factor}
      </Button>
      <NumberField label="Factor of time" value={factor} least={0.01} most={100} width={30} onChange={setFactor} />
      <Button size="small" disabled={none} onClick={() => void edit({ what: "delete", keys: all }).then((done) => done && set({ picked: [] }))} title="Delete the keys in hand (Delete)">
        delete
      </Button>
    </Box>
  );
}
