import { Box, Button, CircularProgress, Paper, TextField, ToggleButton, ToggleButtonGroup, Tooltip, Typography } from "@mui/material";
import { useState } from "react";
import type { Choice } from "../shared/api";
import { useActions, useOperations } from "./actions";
import { usePick } from "./state";

/** The small strip at a selection: the operations that apply there, each with the choices that matter. */
export function Offer({ x }: { x: number }) {
  const operations = useOperations();
  const { info, stretch, operation, choices, trial, trying, set } = usePick("info", "stretch", "operation", "choices", "trial", "trying", "set");
  const { apply, drop } = useActions();
  const [unfolded, setUnfolded] = useState(false);
  if (!info || !stretch) return null;
  const span = stretch.last >= info.last ? `frame ${stretch.first} on` : `frames ${stretch.first}–${stretch.last}`;
  const isLimbs = stretch.parts.every((p) => info.limbs.some((l) => l.member === p.member && l.part === p.part));
  const offered = isLimbs ? operations : [];
  const current = offered?.find((o) => o.id === operation);
  const change = (name: string, value: string | number) => set({ choices: { ...choices, [name]: value } });
  return (
    <Paper
      elevation={6}
      role="dialog"
      aria-label="What can be done with this stretch"
      data-testid="offer"
      sx={{ position: "absolute", left: x, bottom: "100%", mb: "46px", px: 1.25, py: 0.75, zIndex: 5, display: "flex", alignItems: "center", gap: 1, whiteSpace: "nowrap", "& .MuiButton-root": { flexShrink: 0 } }}
    >
      {!current ? (
        <Typography sx={{ fontSize: 13 }}>Nothing applies to these parts yet: select limbs to hand them over.</Typography>
      ) : (
        <>
          {offered!.map((o) => (
            <Tooltip key={o.id} title={o.help}>
              <Typography sx={{ fontWeight: 700, fontSize: 14 }}>{o.label}</Typography>
            </Tooltip>
          ))}
          {current.choices
            .filter((c) => (unfolded || !c.folded) && !(c.name === "settle" && choices["after"] === "carry" && !unfolded))
            .map((c) => (
              <Control key={c.name} choice={c} value={choices[c.name] ?? c.default} onChange={(v) => change(c.name, v)} />
            ))}
          <Button size="small" onClick={() => setUnfolded(!unfolded)} aria-expanded={unfolded}>
            {unfolded ? "less" : "more…"}
          </Button>
          <Typography sx={{ fontSize: 12.5, color: "text.secondary" }}>{span}</Typography>
          <Button variant="contained" disableElevation size="small" disabled={!trial} onClick={apply} startIcon={trying ? <CircularProgress size={12} color="inherit" /> : undefined}>
            Apply ⏎
          </Button>
        </>
      )}
      <Button size="small" onClick={drop}>
        Drop Esc
      </Button>
    </Paper>
  );
}

function Control({ choice, value, onChange }: { choice: Choice; value: string | number; onChange: (value: string | number) => void }) {
  if (choice.kind === "whole")
    return (
      <Tooltip title={choice.help}>
        <Box sx={{ display: "flex", alignItems: "center", gap: 0.5, fontSize: 13 }}>
          {choice.label}
          <TextField
            size="small"
            variant="standard"
            type="number"
            value={value}
            onKeyDown={(e) => e.key !== "Escape" && e.key !== "Enter" && e.stopPropagation()}
            onChange={(e) => {
              const n = Number(e.target.value);
              if (Number.isInteger(n) && n >= choice.least && n <= choice.most) onChange(n);
            }}
            slotProps={{ htmlInput: { min: choice.least, max: choice.most, "aria-label": choice.label, style: { width: 40 } } }}
          />
          frames
        </Box>
      </Tooltip>
    );
  return (
    <ToggleButtonGroup size="small" exclusive value={value} onChange={(_, v: string | null) => v !== null && onChange(v)} aria-label={choice.label}>
      {choice.options.map(([key, label]) => (
        <ToggleButton key={key} value={key} sx={{ py: 0.25, px: 1, textTransform: "none" }}>
          {label}
        </ToggleButton>
      ))}
    </ToggleButtonGroup>
  );
}
