import { Box, Button, ButtonBase, Typography, useTheme } from "@mui/material";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { get, type MeterData, type TakeInfo } from "../shared/api";
import { follow } from "../shared/drag";
import { sideMark } from "../shared/theme";
import { offer, useActions, useOperations } from "./actions";
import { Curves } from "./Curves";
import { drawMeter, drawStrands, layout, ordered, scaleOf } from "./drawStrands";
import { Offer, useOfferShown } from "./Offer";
import { draggedTo, plankAt, type Dragged, type Hit } from "./planks";
import { Sheet } from "./Sheet";
import { NOTHING, usePick, type PartRef } from "./state";

const LABELS = 148;
const RULER = 20;
const METER = 54;
/** Height that the curves have: what the strands' part of the bench leaves. */
const ROOM = 240;

/** One row a part across time; dragging across rows and frames selects a stretch, which is offered what applies. */
export function Strands({ info }: { info: TakeInfo }) {
  const theme = useTheme();
  const operations = useOperations();
  const { stretch, focus, trial, wish, shown, curves, set, toFrame } = usePick("stretch", "focus", "trial", "wish", "shown", "curves", "set", "toFrame");
  const offering = useOfferShown();
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  const [dragged, setDragged] = useState<Dragged | null>(null);
  const { now } = useActions();
  const strands = useMemo(() => ordered(info), [info]);
  const rows = useMemo(() => layout(strands), [strands]);
  const height = rows.reduce((h, r) => Math.max(h, r.y + r.height), 0);
  const scale = scaleOf(shown, width);

  useEffect(() => {
    const watch = new ResizeObserver(([entry]) => setWidth(Math.max(0, Math.floor(entry!.contentRect.width) - LABELS)));
    if (box.current) watch.observe(box.current);
    return () => watch.disconnect();
  }, []);

  const wanted: PartRef[] = stretch?.parts ?? (wish?.operation === "repair" ? wish.parts : focus ? [focus] : []);
  const parts = wanted.map((p) => `part=${encodeURIComponent(`${p.member}/${p.part}`)}`).join("&");
  const range = `first=${Math.max(info.first, Math.floor(shown[0]))}&last=${Math.min(info.last, Math.ceil(shown[1]))}`;
  const meter = useQuery({
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

  const hitAt = (event: { clientX: number; clientY: number }, bounds: DOMRect) => plankAt(rows, scale, event.clientX - bounds.left, event.clientY - bounds.top);

  /** A plank's edge is dragged to another frame; a plank itself is clicked, and its frames become the stretch. */
  const takePlank = ({ strand, plank, edge }: Hit, event: React.PointerEvent<HTMLCanvasElement>, bounds: DOMRect) => {
    const part = { member: strand.member, part: strand.part };
    set({ focus: part, live: null, playing: false });
    let next: Dragged | null = null;
    const move = (e: PointerEvent) => {
      if (!edge || (!next && Math.abs(e.clientX - event.clientX) < 3)) return;
      next = draggedTo(plank, edge, scale.frame(e.clientX - bounds.left), info);
      setDragged(next);
      toFrame(next[edge]);
    };
    const up = () => {
      if (!next) {
        toFrame(plank.first);
        void offer(operations, info, { parts: [part], first: plank.first, last: plank.last }, "plant");
        return;
      }
      const { id, first, last } = next;
      set(NOTHING);
      const done = () => setDragged(null);
      if (first === plank.first && last === plank.last) done();
      else void now({ operation: "contact", parts: [], first, last }, { contact: id }).then(done);
    };
    follow(move, up);
  };

  const press = (event: React.PointerEvent<HTMLCanvasElement>) => {
    if (event.button !== 0) return;
    const bounds = event.currentTarget.getBoundingClientRect();
    const hit = hitAt(event, bounds);
    if (hit) {
      takePlank(hit, event, bounds);
      return;
    }
    const at = (e: { clientX: number; clientY: number }) => {
      const f = Math.round(scale.frame(e.clientX - bounds.left));
      const y = e.clientY - bounds.top;
      return { frame: Math.min(Math.max(f, info.first), info.last), row: Math.max(0, rows.findIndex((r) => y < r.y + r.height)) };
    };
    const start = at(event);
    const startRow = rows[start.row]!.strand;
    set({ focus: { member: startRow.member, part: startRow.part }, live: null, playing: false });
    let moved = false;
    const select = (e: PointerEvent) => {
      const now = at(e);
      if (Math.abs(e.clientX - event.clientX) < 4 && !moved) return null;
      moved = true;
      const [a, b] = [Math.min(start.row, now.row), Math.max(start.row, now.row)];
      const found = rows.slice(a, b + 1).map((r) => ({ member: r.strand.member, part: r.strand.part }));
      return { parts: found, first: Math.min(start.frame, now.frame), last: Math.max(start.frame, now.frame) };
    };
    const move = (e: PointerEvent) => {
      const next = select(e);
      // While dragging nothing is tried yet: no choices are made.
      if (next) set({ ...NOTHING, stretch: next });
    };
    const up = (e: PointerEvent) => {
      const next = select(e);
      if (!next || next.last === next.first) {
        toFrame(start.frame);
        set(NOTHING);
        return;
      }
      toFrame(next.first);
      void offer(operations, info, next);
    };
    follow(move, up);
  };

  const scrub = (event: React.PointerEvent<HTMLCanvasElement>) => {
    const bounds = event.currentTarget.getBoundingClientRect();
    const move = (e: { clientX: number }) => toFrame(scale.frame(e.clientX - bounds.left));
    move(event);
    follow(move);
  };

  const zoom = (event: React.WheelEvent) => {
    if (!event.ctrlKey && Math.abs(event.deltaY) > Math.abs(event.deltaX) && !event.shiftKey) return;
    const middle = scale.frame(event.nativeEvent.offsetX);
    if (event.ctrlKey) {
      const k = Math.exp(event.deltaY * 0.002);
      const next: [number, number] = [middle + (shown[0] - middle) * k, middle + (shown[1] - middle) * k];
      if (next[1] - next[0] < 6) return;
      set({ shown: [Math.max(info.first, next[0]), Math.min(info.last, next[1])] });
    } else {
      const by = ((event.deltaX || event.deltaY) / Math.max(width, 1)) * (shown[1] - shown[0]);
      const d = Math.min(Math.max(by, info.first - shown[0]), info.last - shown[1]);
      set({ shown: [shown[0] + d, shown[1] + d] });
    }
  };

  const rulerStep = [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000].find((n) => scale.x(n) - scale.x(0) >= 46) ?? 10000;
  return (
    <Box ref={box} component="section" aria-label="Strands" sx={{ position: "relative", borderTop: 1, borderColor: "divider", bgcolor: "background.default", display: "flex", flexDirection: "column", minHeight: 0 }} onWheel={zoom}>
      <Box sx={{ display: "flex" }}>
        <Box sx={{ width: LABELS, px: 1, display: "flex", alignItems: "center", gap: 0.5, "& .MuiButton-root": { py: 0, px: 0.75, minWidth: 0, fontSize: 11, lineHeight: `${RULER - 3}px` } }}>
          <Button variant={curves ? "text" : "contained"} disableElevation aria-pressed={!curves} onClick={() => set({ curves: false })} title="Strands of all parts (W)">
            Strands
          </Button>
          <Button variant={curves ? "contained" : "text"} disableElevation aria-pressed={curves} onClick={() => set({ curves: true })} title="Curves of the ticked channels (W)">
            Curves
          </Button>
        </Box>
        <Sheet
          width={width}
          height={RULER}
          onPointerDown={scrub}
          aria-label="Frame ruler"
          draw={(g) => {
            g.clearRect(0, 0, width, RULER);
            g.font = "11px 'Figtree Variable', sans-serif";
            for (let f = Math.ceil(shown[0] / rulerStep) * rulerStep; f <= shown[1]; f += rulerStep) {
              g.fillStyle = theme.ink.line;
              g.fillRect(scale.x(f), 12, 1, 8);
              g.fillStyle = theme.ink.soft;
              g.fillText(String(f), scale.x(f) + 3, 12);
            }
          }}
        />
      </Box>
      {curves ? (
        <Curves info={info} labels={LABELS} width={width} height={ROOM} />
      ) : (
      <Box sx={{ display: "flex", overflowY: "auto", overflowX: "hidden", flexGrow: 1, minHeight: 0, position: "relative" }}>
        <Box sx={{ width: LABELS, flexShrink: 0, height }}>
          {rows.map(({ strand, height: h }) => {
            const mine = focus?.member === strand.member && focus.part === strand.part;
            const hue = strand.side === "left" ? theme.ink.left : strand.side === "right" ? theme.ink.right : theme.ink.middle;
            return (
              <ButtonBase
                key={`${strand.member}/${strand.part}`}
                onClick={() => set({ focus: { member: strand.member, part: strand.part } })}
                aria-pressed={mine}
                sx={{ display: "flex", justifyContent: "flex-start", width: "100%", height: h, px: 1.5, fontFamily: theme.typography.fontFamily, fontSize: strand.main ? 13.5 : 11.5, fontWeight: strand.main ? 650 : 450, color: hue, bgcolor: mine ? theme.ink.accentSoft : undefined, borderBottom: 1, borderColor: "divider" }}
              >
                <span aria-hidden>{sideMark[strand.side]}&nbsp;</span>
                {strand.label}
                {strand.findings.length > 0 && <span style={{ color: theme.ink.alarm, marginLeft: 6 }}>▲<span style={{ position: "absolute", left: -9999 }}>has findings</span></span>}
              </ButtonBase>
            );
          })}
        </Box>
        <Sheet
          width={width}
          height={height}
          onPointerDown={press}
          onPointerMove={(e) => {
            const hit = hitAt(e, e.currentTarget.getBoundingClientRect());
            e.currentTarget.style.cursor = hit?.edge ? "ew-resize" : hit ? "pointer" : "";
          }}
          data-testid="strands"
          data-first={shown[0]}
          data-last={shown[1]}
          aria-label="Strands: drag across frames and rows to select a stretch"
          draw={(g) => drawStrands(g, { info, rows, tried: trial?.strands ?? [], shown, stretch, focus, dragged, ink: theme.ink, width, height })}
        />
      </Box>
      )}
      <Box sx={{ display: "flex", borderTop: 1, borderColor: "divider" }}>
        <Typography sx={{ width: LABELS, px: 1.5, pt: 0.5, fontSize: 11, lineHeight: 1.3, color: "text.secondary" }} component="div">
          <b>Meter</b>
          <br />
          <span style={{ color: theme.ink.alarm }}>▮</span> pose jump
          <br />— speed jump a frame
        </Typography>
        <Sheet
          width={width}
          height={METER}
          data-testid="meter"
          role="img"
          aria-label={meterWords(meter.data, tried.data)}
          draw={(g) => drawMeter(g, { shown, ink: theme.ink, width, height: METER, data: meter.data, tried: tried.data })}
        />
      </Box>
      <FrameLine width={width} />
      {offering && <Offer x={LABELS + Math.min(Math.max(scale.x((stretch ?? wish)!.first), 8), Math.max(width - 1010, -LABELS + 8))} />}
    </Box>
  );
}

/** The current frame, from the ruler down through strands and meter. */
function FrameLine({ width }: { width: number }) {
  const theme = useTheme();
  const { frame, shown } = usePick("frame", "shown");
  if (frame < shown[0] || frame > shown[1]) return null;
  const x = scaleOf(shown, width).x(frame);
  const label = { left: Math.min(Math.max(x, 16), Math.max(width - 16, 16)) + LABELS, top: 1 };
  return (
    <Box aria-hidden sx={{ position: "absolute", inset: 0, pointerEvents: "none", overflow: "hidden" }}>
      <Box style={{ transform: `translateX(${LABELS + x - 0.75}px)` }} sx={{ position: "absolute", top: 0, bottom: 0, width: "1.5px", bgcolor: theme.ink.ink }} />
      <Box style={label} sx={{ position: "absolute", transform: "translateX(-50%)", px: 0.6, fontSize: 11, lineHeight: "16px", bgcolor: theme.ink.ink, color: theme.ink.sheet }}>
        {frame}
      </Box>
    </Box>
  );
}

function meterWords(data: MeterData | undefined, tried: MeterData | undefined): string {
  const say = (d: MeterData) => `greatest pose jump ${(1000 * Math.max(0, ...d.pose)).toFixed(3)} mm`;
  return data ? `Meter: ${say(data)}${tried ? `; tried: ${say(tried)}` : ""}` : "Meter";
}
