import { Box } from "@mui/material";
import { useState } from "react";
import type { LayerInfo } from "../shared/api";
import { Glimpse } from "./actions";
import { looksOf, weightAt, type Doing } from "./layers";
import { usePick } from "./state";

const WIDE = 300;
const HIGH = 34;
const EDGE = 6;

/** The weight of a layer along the take: its keys are dragged up and down, and taken away. */
export function LayerWeight({ layer, doing }: { layer: LayerInfo; doing: Doing }) {
  const { info, frame, set } = usePick("info", "frame", "set");
  const [held, setHeld] = useState<[number, number] | null>(null);
  const [glimpse] = useState(() => new Glimpse("layer"));
  if (!info) return null;
  const shown = held ? { weights: layer.weights.map(([t, w]): [number, number] => [t, t === held[0] ? held[1] : w]) } : layer;
  const most = Math.max(1, ...shown.weights.map(([, w]) => w));
  const least = Math.min(0, ...shown.weights.map(([, w]) => w));
  const x = (t: number) => EDGE + ((t - info.first) / Math.max(info.last - info.first, 1)) * (WIDE - 2 * EDGE);
  const y = (w: number) => HIGH - EDGE - ((w - least) / (most - least)) * (HIGH - 2 * EDGE);
  const { color } = looksOf(layer.id);
  const line = Array.from({ length: 101 }, (_, k) => info.first + (k / 100) * (info.last - info.first));
  const points = [...line, ...shown.weights.map(([t]) => t)].sort((a, b) => a - b).map((t) => `${x(t).toFixed(1)},${y(weightAt(shown, t)).toFixed(1)}`);
  const letGo = () => {
    setHeld(null);
    glimpse.close();
  };
  const commit = (t: number, weight: number) => doing("weight", layer.id, { weight }, t).then(letGo);
  return (
    <Box
      component="svg"
      viewBox={`0 0 ${WIDE} ${HIGH}`}
      role="group"
      aria-label={`Weight of ${layer.name} along the take`}
      sx={{ gridColumn: "1 / -1", width: "100%", height: HIGH, display: "block", my: 0.25, touchAction: "none" }}
      onPointerDown={(e) => {
        if (e.target !== e.currentTarget) return;
        const box = e.currentTarget.getBoundingClientRect();
        const at = info.first + ((((e.clientX - box.left) / box.width) * WIDE - EDGE) / (WIDE - 2 * EDGE)) * (info.last - info.first);
        set({ frame: Math.min(Math.max(Math.round(at), info.first), info.last) });
      }}
    >
      <line x1={EDGE} x2={WIDE - EDGE} y1={y(0)} y2={y(0)} stroke="currentColor" strokeOpacity={0.25} pointerEvents="none" />
      <line x1={x(frame)} x2={x(frame)} y1={0} y2={HIGH} stroke="currentColor" strokeOpacity={0.5} pointerEvents="none" />
      <polyline points={points.join(" ")} fill="none" stroke={color} strokeWidth={1.8} pointerEvents="none" />
      {shown.weights.map(([t, w]) => (
        <circle
          key={t}
          cx={x(t)}
          cy={y(w)}
          r={4}
          fill={color}
          tabIndex={0}
          role="slider"
          aria-label={`Weight at frame ${t}`}
          aria-valuemin={0}
          aria-valuemax={1}
          aria-valuenow={w}
          style={{ cursor: "ns-resize" }}
          onPointerDown={(e) => {
            e.currentTarget.setPointerCapture(e.pointerId);
            setHeld([t, w]);
          }}
          onPointerMove={(e) => {
            if (!held || held[0] !== t) return;
            const box = e.currentTarget.ownerSVGElement!.getBoundingClientRect();
            const up = (HIGH - EDGE - ((e.clientY - box.top) / box.height) * HIGH) / (HIGH - 2 * EDGE);
            const weight = Math.round(100 * Math.min(Math.max(least + up * (most - least), Math.min(least, 0)), Math.max(most, 1))) / 100;
            setHeld([t, weight]);
            glimpse.show({ do: "weight", which: layer.id, weight }, t);
          }}
          onPointerUp={() => {
            if (held && held[1] !== layer.weights.find(([at]) => at === t)?.[1]) void commit(t, held[1]);
            else letGo();
          }}
          onPointerCancel={letGo}
          onKeyDown={(e) => {
            const step = { ArrowUp: 0.05, ArrowDown: -0.05 }[e.key];
            if (step === undefined && e.key !== "Delete" && e.key !== "Backspace") return;
            e.preventDefault();
            e.stopPropagation();
            if (step === undefined) void doing("unweigh", layer.id, {}, t);
            else void commit(t, Math.round(100 * (w + step)) / 100);
          }}
        >
          <title>{`${Math.round(100 * w)} % at frame ${t}: drag up or down, arrow keys, Delete takes it away`}</title>
        </circle>
      ))}
    </Box>
  );
}
