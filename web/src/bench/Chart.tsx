import { Box, Tooltip, useTheme } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get } from "../shared/api";
import type { Chart as Figures } from "../shared/api";
import { choose } from "./actions";
import { chartScale, picked, read } from "./chartScale";
import { useBench } from "./state";

const WIDTH = 272;
const HEIGHT = 96;
const LINE = ["4 3", ""];

/** Figures by which to decide on what is tried: a click along them makes the choices that they are about. */
export function Chart({ trial }: { trial: string }) {
  const take = useBench((s) => s.info?.id);
  const { data } = useQuery({
    queryKey: ["chart", take, trial],
    queryFn: ({ signal }) => get<Figures | null>(`/takes/${take}/chart?trial=${trial}`, signal),
    enabled: take !== undefined,
    retry: false,
  });
  // Where all comes to the same there is nothing to decide.
  return data && data.lines.some((l) => new Set(l.points.map((p) => p[1])).size > 1) ? <Drawn figures={data} /> : null;
}

function Drawn({ figures }: { figures: Figures }) {
  const theme = useTheme();
  const [over, setOver] = useState<number | null>(null);
  const { along, up, lines, now, picks } = figures;
  const scale = chartScale(figures, WIDTH, HEIGHT);
  const [low, high] = scale.ys;
  const pick = (value: number) => picks.forEach((p) => void choose(p.choice, picked(value * p.times)));
  // Units stand after a comma.
  const [each, much] = [along, up].map((words) => (words.includes(", ") ? ` ${words.split(", ").at(-1)}` : ""));
  const said = (value: number) => `${read(value)}${each}: ${lines.map((l) => `${l.label} ${read(scale.at(l.points, value))}${much}`).join(", ")}`;
  const mark = over ?? now;
  return (
    <Tooltip title={picks.length > 0 ? `Click to choose: ${along}` : ""} placement="left">
      <Box
        component="svg"
        role="img"
        data-testid="chart"
        aria-label={`${up} by ${along}${now === null ? "" : `; at ${said(now)}`}`}
        viewBox={`0 0 ${WIDTH} ${HEIGHT + 26}`}
        sx={{ display: "block", width: "100%", cursor: picks.length > 0 ? "pointer" : "default", fontSize: 10, "& text": { fill: theme.palette.text.secondary } }}
        onPointerMove={(e) => setOver(scale.value(e.nativeEvent, e.currentTarget))}
        onPointerLeave={() => setOver(null)}
        onClick={(e) => pick(scale.value(e.nativeEvent, e.currentTarget))}
      >
        {scale.ticks.map((x) => (
          <g key={x}>
            <line x1={scale.x(x)} x2={scale.x(x)} y1={12} y2={HEIGHT} stroke={theme.palette.divider} />
            <text x={scale.x(x)} y={HEIGHT + 10} textAnchor="middle">
              {read(x)}
            </text>
          </g>
        ))}
        <text x={0} y={9}>
          {mark === null ? `${up}: ${read(low)} to ${read(high)}` : said(mark)}
        </text>
        <text x={WIDTH} y={HEIGHT + 22} textAnchor="end">
          {along}
        </text>
        {lines.map((l, k) => (
          <g key={l.label}>
            <polyline points={l.points.map(([x, y]) => `${scale.x(x)},${scale.y(y)}`).join(" ")} fill="none" stroke={k === lines.length - 1 ? theme.palette.primary.main : theme.palette.text.secondary} strokeWidth={1.6} strokeDasharray={lines.length > 1 ? LINE[Math.min(k, 1)] : ""} />
            {l.points.length < 12 && l.points.map(([x, y]) => <circle key={x} cx={scale.x(x)} cy={scale.y(y)} r={2.6} fill={theme.palette.primary.main} />)}
          </g>
        ))}
        {mark !== null && <line x1={scale.x(mark)} x2={scale.x(mark)} y1={12} y2={HEIGHT} stroke={theme.palette.text.primary} strokeWidth={over === null ? 1.5 : 1} />}
      </Box>
    </Tooltip>
  );
}
