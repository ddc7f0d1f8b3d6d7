import { Box, Link, Slider, Tooltip } from "@mui/material";
import { useState } from "react";
import type { Card, KeyEdit } from "../../shared/api";
import { useActions } from "../actions";
import { NOTHING, useBench } from "../state";

/** How far a control follows something here: turned, the pose blends as it is seen; let go, it is keyed. A click on what is
 * followed offers to follow something else, with the pose kept. */
export function FollowDial({ dial, part, frame, onKeep }: { dial: Card["dials"][number]; part: string; frame: number; onKeep: () => void }) {
  const set = useBench((s) => s.set);
  const { edit } = useActions();
  // What is turned counts until the frame or what is keyed is another.
  const on = `${frame} ${dial.weight}`;
  const [turned, setTurned] = useState({ weight: 0, on: "" });
  const name = dial.control && dial.control !== part ? `${dial.control}: ${dial.anchor}` : dial.anchor;
  const percent = Math.round(100 * (turned.on === on ? turned.weight : dial.weight));
  const change = (weight: number): KeyEdit => ({ what: "add", keys: dial.channels.map((channel) => ({ channel, times: [frame] })), values: { arriving: weight, leaving: weight } });
  return (
      <Box sx={{ display: "flex", alignItems: "center", gap: 1, fontSize: 12.5, minHeight: 19, lineHeight: 1.25 }}>
        <Tooltip title={`${name}. The dial blends the pose. To follow something else with the pose kept, click here.`} placement="right">
          <Link component="button" underline="hover" onClick={onKeep} sx={{ width: 126, flexShrink: 0, fontSize: 12.5, textAlign: "left", lineHeight: 1.25, overflowWrap: "anywhere", pl: 1.5, textIndent: "-12px" }}>
            <span aria-hidden>{dial.keyed ? "● " : "○ "}</span>
            {name}
          </Link>
        </Tooltip>
        <Slider
          size="small"
          min={0}
          max={100}
          value={percent}
          aria-label={dial.control ? `How far ${dial.control} goes with ${dial.anchor}` : `How far it follows ${dial.anchor}`}
          getAriaValueText={(v) => `${v} %`}
          // The arrows are the dial's; all other keys are commands as ever.
          onKeyDown={(e) => /^(Arrow|Home|End|Page)/.test(e.key) && e.stopPropagation()}
          onChange={(_, v) => {
            const weight = (v as number) / 100;
            setTurned({ weight, on });
            set({ wish: { operation: "edit", parts: [], first: frame, last: null, edit: change(weight) }, choices: {}, stretch: null });
          }}
          onChangeCommitted={(_, v) => {
            set(NOTHING);
            const weight = (v as number) / 100;
            if (weight === dial.weight) setTurned({ weight, on: "" });
            else void edit(change(weight)).then((done) => done || setTurned({ weight, on: "" }));
          }}
          sx={{ py: 0 }}
        />
        <Box sx={{ width: 44, flexShrink: 0, textAlign: "right", whiteSpace: "nowrap" }}>{percent} %</Box>
      </Box>
  );
}
