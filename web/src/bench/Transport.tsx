import { Box, Button, IconButton, MenuItem, Select, TextField, ToggleButton, Tooltip, Typography } from "@mui/material";
import { useEffect, useRef, useState } from "react";
import { useBench, usePick, type Viewpoint } from "./state";

/** Runs playback: whole frames at the take's rate, from poses fetched ahead; a frame not yet here is waited for. */
export function usePlayback() {
  const { playing, speed, info, bank } = usePick("playing", "speed", "info", "bank");
  useEffect(() => {
    if (!playing || !info || !bank) return;
    const { frame, set } = useBench.getState();
    const src = `revision-${info.revision}`;
    let start = performance.now();
    let from = frame >= info.last ? info.first : frame;
    let handle = 0;
    let drawn = 0;
    let since = start;
    const tick = (now: number) => {
      const elapsed = ((now - start) / 1000) * info.rate * speed;
      let at = Math.floor(from + elapsed);
      if (at > info.last) {
        from = info.first;
        start = now;
        at = info.first;
      }
      bank.ahead(src, at);
      if (bank.at(src, at)) {
        if (at !== useBench.getState().frame) {
          set({ frame: at });
          drawn += 1;
        }
      } else {
        from = useBench.getState().frame;
        start = now;
      }
      if (now - since > 1000) {
        set({ rate: (drawn * 1000) / (now - since) });
        drawn = 0;
        since = now;
      }
      handle = requestAnimationFrame(tick);
    };
    handle = requestAnimationFrame(tick);
    return () => {
      cancelAnimationFrame(handle);
      set({ rate: 0 });
    };
  }, [playing, speed, info, bank]);
}

const VIEWS: [Viewpoint, string, string][] = [
  ["free", "three-quarter", "1"],
  ["front", "front", "2"],
  ["side", "side", "3"],
  ["top", "top", "4"],
  ["floor", "floor level", "5"],
];

/** Playing, stepping, the frame field, and what the view shows. */
export function Transport() {
  const bench = useBench();
  const { info, frame, playing, speed, set, toFrame } = bench;
  const [text, setText] = useState("");
  const field = useRef<HTMLInputElement>(null);
  if (!info) return null;
  const commit = () => {
    const value = Number(text);
    if (text !== "" && Number.isFinite(value)) toFrame(value);
    setText("");
  };
  const seconds = ((frame - info.first) / info.rate).toFixed(2);
  return (
    <Box sx={{ display: "flex", alignItems: "center", gap: 0.75, px: 1.5, height: 42, borderTop: 1, borderColor: "divider", bgcolor: "background.paper" }} role="toolbar" aria-label="Playing">
      <Tooltip title={`${playing ? "Stop" : "Play"} (Space)`}>
        <Button variant={playing ? "contained" : "outlined"} disableElevation size="small" onClick={() => set({ playing: !playing, live: null })} sx={{ minWidth: 74 }}>
          {playing ? "Stop" : "Play"}
        </Button>
      </Tooltip>
      <Tooltip title="One frame back (←)">
        <IconButton size="small" aria-label="One frame back" onClick={() => toFrame(frame - 1)}>
          ‹
        </IconButton>
      </Tooltip>
      <TextField
        size="small"
        variant="standard"
        inputRef={field}
        value={text === "" ? String(frame) : text}
        onChange={(e) => setText(e.target.value)}
        onBlur={commit}
        onKeyDown={(e) => {
          e.stopPropagation();
          if (e.key === "Enter") commit();
          if (e.key === "Escape") setText("");
        }}
        slotProps={{ htmlInput: { "aria-label": "Frame", inputMode: "numeric", style: { width: 44, textAlign: "right", fontWeight: 700, fontSize: 18 } } }}
      />
      <Tooltip title="One frame on (→)">
        <IconButton size="small" aria-label="One frame on" onClick={() => toFrame(frame + 1)}>
          ›
        </IconButton>
      </Tooltip>
      <Typography color="text.secondary" sx={{ whiteSpace: "nowrap", fontSize: 13 }}>
        of {info.last} · {seconds} s · {Number(info.rate.toFixed(3))} a second
      </Typography>
      <Select
        size="small"
        variant="standard"
        value={speed}
        onChange={(e) => set({ speed: Number(e.target.value) })}
        inputProps={{ "aria-label": "Playback speed" }}
        sx={{ ml: 1, fontSize: 13 }}
      >
        {[0.1, 0.25, 0.5, 1, 2].map((v) => (
          <MenuItem key={v} value={v}>
            {v} ×
          </MenuItem>
        ))}
      </Select>
      <Typography data-testid="rate" color="text.secondary" sx={{ fontSize: 12, width: 76 }}>
        {bench.rate > 0 ? `${bench.rate.toFixed(0)} drawn/s` : ""}
      </Typography>
      <Box sx={{ flexGrow: 1 }} />
      {(
        [
          ["controls", "controls", "C"],
          ["bones", "joints", "J"],
          ["ghosts", "before / after", "G"],
          ["turning", "turn, not move", "T"],
        ] as const
      ).map(([key, label, shortcut]) => (
        <Tooltip key={key} title={`${label} (${shortcut})`}>
          <ToggleButton size="small" value={key} selected={bench[key]} onChange={() => set({ [key]: !bench[key] })} sx={{ py: 0.25, px: 1, textTransform: "none" }}>
            {label}
          </ToggleButton>
        </Tooltip>
      ))}
      <Select
        size="small"
        variant="standard"
        value={bench.viewpoint}
        onChange={(e) => set({ viewpoint: e.target.value as Viewpoint })}
        inputProps={{ "aria-label": "Viewpoint" }}
        sx={{ ml: 1, fontSize: 13, minWidth: 110 }}
      >
        {VIEWS.map(([key, label, shortcut]) => (
          <MenuItem key={key} value={key}>
            {label} ({shortcut})
          </MenuItem>
        ))}
      </Select>
    </Box>
  );
}

export const viewByKey: Record<string, Viewpoint> = Object.fromEntries(VIEWS.map(([view, , key]) => [key, view]));
