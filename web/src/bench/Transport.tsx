import { Box, Button, IconButton, MenuItem, Select, TextField, ToggleButton, Tooltip, Typography } from "@mui/material";
import { useState } from "react";
import type { TakeInfo } from "../shared/api";
import { pinnedWith, useBench, usePick } from "./state";
import { Viewpoints } from "./Viewpoints";

const WHAT = {
  body: "Bodies of the cast",
  controls: "Controls",
  light: "Bodies in stiff pieces, quicker to draw",
  bones: "Joints",
  alone: "Only the part in hand",
  ghosts: "The frames before and after, as ink",
  trails: "Paths of the part in hand, a tick a frame",
  slips: "Strokes from where a standing end should be",
  holds: "Who holds on to what",
  turning: "Dragging a control turns it instead of moving it",
};

const SHOWN = [["body", "body", "B"], ["light", "light", "Z"], ["controls", "controls", "C"], ["bones", "joints", "J"], ["alone", "alone", "O"], ["ghosts", "ghosts", "G"], ["trails", "trails", "Y"], ["slips", "slips", "S"], ["holds", "holds", "F"], ["turning", "turn", "T"]] as const;

const toggle = { py: 0.25, px: 0.75, textTransform: "none", fontSize: 12.5 } as const;

/** Playing, stepping, the frame field, and what the view shows. */
export function Transport({ info }: { info: TakeInfo }) {
  const { playing, speed, set } = usePick("playing", "speed", "set");
  return (
    <Box sx={{ display: "flex", alignItems: "center", gap: 0.75, px: 1.5, height: 42, borderTop: 1, borderColor: "divider", bgcolor: "background.paper" }} component="section" aria-label="Playing and drawing">
      <Tooltip title={`${playing ? "Stop" : "Play"} (Space)`}>
        <Button variant={playing ? "contained" : "outlined"} disableElevation size="small" onClick={() => set({ playing: !playing, live: null })} sx={{ minWidth: 74 }}>
          {playing ? "Stop" : "Play"}
        </Button>
      </Tooltip>
      <Frame info={info} />
      <Select size="small" variant="standard" value={speed} onChange={(e) => set({ speed: Number(e.target.value) })} inputProps={{ "aria-label": "Playback speed" }} sx={{ ml: 0.5, fontSize: 13 }}>
        {[0.1, 0.25, 0.5, 1, 2].map((v) => (
          <MenuItem key={v} value={v}>
            {v} ×
          </MenuItem>
        ))}
      </Select>
      <Rate />
      <Box sx={{ flexGrow: 1 }} />
      <Shown />
      <Pin />
      <Viewpoints info={info} />
    </Box>
  );
}

/** Stepping, and the frame as a field. It alone is drawn anew while a take plays. */
function Frame({ info }: { info: TakeInfo }) {
  const { frame, toFrame } = usePick("frame", "toFrame");
  const [text, setText] = useState("");
  const commit = () => {
    const value = Number(text);
    if (text !== "" && Number.isFinite(value)) toFrame(value);
    setText("");
  };
  return (
    <>
      <IconButton size="small" aria-label="One frame back" title="One frame back (←)" onClick={() => toFrame(frame - 1)}>
        ‹
      </IconButton>
      <TextField
        size="small"
        variant="standard"
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
      <IconButton size="small" aria-label="One frame on" title="One frame on (→)" onClick={() => toFrame(frame + 1)}>
        ›
      </IconButton>
      <Typography color="text.secondary" sx={{ whiteSpace: "nowrap", fontSize: 13 }}>
        of {info.last} · {((frame - info.first) / info.rate).toFixed(2)} s · {Number(info.rate.toFixed(3))}/s
      </Typography>
    </>
  );
}

function Rate() {
  const rate = useBench((s) => s.rate);
  return (
    <Typography data-testid="rate" color="text.secondary" sx={{ fontSize: 12, width: 62 }}>
      {rate > 0 ? `${rate.toFixed(0)} drawn/s` : ""}
    </Typography>
  );
}

function Shown() {
  const bench = usePick("body", "light", "controls", "bones", "alone", "ghosts", "trails", "slips", "holds", "turning", "set");
  return SHOWN.map(([key, label, shortcut]) => (
    <Tooltip key={key} title={`${WHAT[key]} (${shortcut})`}>
      <ToggleButton size="small" value={key} selected={bench[key]} onChange={() => bench.set({ [key]: !bench[key] })} sx={toggle}>
        {label}
      </ToggleButton>
    </Tooltip>
  ));
}

function Pin() {
  const { pinned, set } = usePick("pinned", "set");
  const here = useBench((s) => s.pinned.includes(s.frame));
  return (
    <Tooltip title="Keep the pose of this frame drawn, or let it go (P)">
      <ToggleButton size="small" value="pin" selected={here} onChange={() => set({ pinned: pinnedWith(pinned, useBench.getState().frame) })} sx={toggle}>
        pin{pinned.length > 0 ? ` ${pinned.length}` : ""}
      </ToggleButton>
    </Tooltip>
  );
}
