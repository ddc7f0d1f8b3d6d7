import { Box, Button, IconButton, MenuItem, Select, TextField, ToggleButton, Tooltip, Typography } from "@mui/material";
import { useEffect, useRef, useState } from "react";
import { pinnedWith, useBench, usePick } from "./state";
import { Viewpoints } from "./Viewpoints";

/** Runs playback: whole frames at the take's rate, from poses fetched ahead; a frame not yet here is waited for. */
export function usePlayback() {
  const { playing, speed, info, bank, loop } = usePick("playing", "speed", "info", "bank", "loop");
  useEffect(() => {
    if (!playing || !info || !bank) return;
    const { frame, set } = useBench.getState();
    const src = `revision-${info.revision}`;
    let start = performance.now();
    const [low, high] = loop ?? [info.first, info.last];
    let from = frame >= high || frame < low ? low : frame;
    let handle = 0;
    let drawn = 0;
    let since = start;
    const tick = (now: number) => {
      // A picture's own time may lie before the start.
      const elapsed = (Math.max(now - start, 0) / 1000) * info.rate * speed;
      let at = Math.floor(from + elapsed);
      if (at > high) {
        from = low;
        start = now;
        at = low;
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
  }, [playing, speed, info, bank, loop]);
}

const WHAT = {
  body: "Bodies of the cast",
  controls: "Controls",
  bones: "Joints",
  alone: "Only the part in hand",
  ghosts: "The frames before and after, as ink",
  trails: "Paths of the part in hand, a tick a frame",
  slips: "Strokes from where a standing end should be",
  turning: "Dragging a control turns it instead of moving it",
};

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
    <Box sx={{ display: "flex", alignItems: "center", gap: 0.75, px: 1.5, height: 42, borderTop: 1, borderColor: "divider", bgcolor: "background.paper" }} component="section" aria-label="Playing and drawing">
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
        of {info.last} · {seconds} s · {Number(info.rate.toFixed(3))}/s
      </Typography>
      <Select
        size="small"
        variant="standard"
        value={speed}
        onChange={(e) => set({ speed: Number(e.target.value) })}
        inputProps={{ "aria-label": "Playback speed" }}
        sx={{ ml: 0.5, fontSize: 13 }}
      >
        {[0.1, 0.25, 0.5, 1, 2].map((v) => (
          <MenuItem key={v} value={v}>
            {v} ×
          </MenuItem>
        ))}
      </Select>
      <Typography data-testid="rate" color="text.secondary" sx={{ fontSize: 12, width: 62 }}>
        {bench.rate > 0 ? `${bench.rate.toFixed(0)} drawn/s` : ""}
      </Typography>
      <Box sx={{ flexGrow: 1 }} />
      {(
        [
          ["body", "body", "B"],
          ["controls", "controls", "C"],
          ["bones", "joints", "J"],
          ["alone", "alone", "O"],
          ["ghosts", "ghosts", "G"],
          ["trails", "trails", "Y"],
          ["slips", "slips", "S"],
          ["turning", "turn", "T"],
        ] as const
      ).map(([key, label, shortcut]) => (
        <Tooltip key={key} title={`${WHAT[key]} (${shortcut})`}>
          <ToggleButton size="small" value={key} selected={bench[key]} onChange={() => set({ [key]: !bench[key] })} sx={{ py: 0.25, px: 0.75, textTransform: "none", fontSize: 12.5 }}>
            {label}
          </ToggleButton>
        </Tooltip>
      ))}
      <Tooltip title="Keep the pose of this frame drawn, or let it go (P)">
        <ToggleButton size="small" value="pin" selected={bench.pinned.includes(frame)} onChange={() => set({ pinned: pinnedWith(bench.pinned, frame) })} sx={{ py: 0.25, px: 0.75, textTransform: "none", fontSize: 12.5 }}>
          pin{bench.pinned.length > 0 ? ` ${bench.pinned.length}` : ""}
        </ToggleButton>
      </Tooltip>
      <Viewpoints info={info} />
    </Box>
  );
}
