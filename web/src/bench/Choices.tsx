import { Autocomplete, Box, TextField, ToggleButton, ToggleButtonGroup, Tooltip } from "@mui/material";
import { useState } from "react";
import type { Choice } from "../shared/api";
import { choose } from "./actions";
import { NumberField } from "./NumberField";

/** Of more than these one is found by typing. */
const MANY = 9;

/** One choice of an operation, by its kind. */
export function Control({ choice, value }: { choice: Choice; value: string | number }) {
  const onChange = (next: string | number) => void choose(choice.name, next);
  const named = choice.kind === "options" || choice.kind === "name";
  if (named && choice.options.length <= MANY)
    return (
      <ToggleButtonGroup
        size="small"
        exclusive
        value={value}
        onChange={(_, v: string | null) => v !== null && onChange(v)}
        aria-label={choice.label}
        // Space plays and Enter applies: the arrows choose.
        onKeyDown={(e) => {
          const by = { ArrowLeft: -1, ArrowRight: 1 }[e.key];
          const at = choice.options.findIndex(([key]) => key === value) + (by ?? 0);
          if (!by || e.altKey || e.ctrlKey || e.shiftKey || at < 0 || at >= choice.options.length) return;
          e.stopPropagation();
          e.preventDefault();
          onChange(choice.options[at]![0]);
          (e.currentTarget.children[at] as HTMLElement).focus();
        }}
      >
        {choice.options.map(([key, label]) => (
          <ToggleButton key={key} value={key} sx={{ py: 0.25, px: 1, textTransform: "none" }}>
            {label}
          </ToggleButton>
        ))}
      </ToggleButtonGroup>
    );
  if (named || choice.kind === "anchor" || choice.kind === "take") return <Anchors choice={choice} value={String(value)} onChange={onChange} />;
  if (choice.kind === "text" || choice.kind === "point") return <Words key={value} choice={choice} value={String(value)} onChange={onChange} />;
  return (
    <Tooltip title={choice.help}>
      <Box sx={{ display: "flex", alignItems: "center", gap: 0.5, fontSize: 13 }}>
        {choice.label}
        <NumberField label={choice.label} value={Number(value)} whole={choice.kind === "whole"} least={choice.least} most={choice.most} onChange={onChange} />
        {choice.unit}
      </Box>
    </Tooltip>
  );
}

/** Words of the animator's own, or a place that is clicked in the view; taken when the field is left. */
function Words({ choice, value, onChange }: { choice: Choice; value: string; onChange: (value: string) => void }) {
  const [typed, setTyped] = useState(value);
  const give = () => typed !== value && onChange(typed);
  return (
    <Tooltip title={choice.help} placement="top">
      <Box data-own-enter sx={{ display: "flex", alignItems: "center", gap: 0.75, fontSize: 13 }} onKeyDown={(e) => e.key !== "Escape" && e.stopPropagation()}>
        {choice.label}
        <TextField variant="standard" value={typed} placeholder={choice.kind === "point" ? "here, or click" : ""} onChange={(e) => setTyped(e.target.value)} onBlur={give} onKeyDown={(e) => e.key === "Enter" && give()} sx={{ width: choice.kind === "point" ? 150 : 120 }} slotProps={{ htmlInput: { "aria-label": choice.label, maxLength: 60, style: { fontSize: 13, padding: 0 } } }} />
      </Box>
    </Tooltip>
  );
}

/** Something to follow, out of all that can be followed: typed to be found, or clicked in the view; or another take. */
function Anchors({ choice, value, onChange }: { choice: Choice; value: string; onChange: (value: string) => void }) {
  const [open, setOpen] = useState(false);
  const [inside, setInside] = useState(false);
  return (
    // Whoever is at it has read it, and wants to see what it would cover.
    <Tooltip title={inside ? "" : choice.help} placement="top">
      {/* Enter takes what is lit in the open list; once that is closed, it means what was tried. */}
      <Box data-own-enter={open || undefined} onFocus={() => setInside(true)} onBlur={() => setInside(false)} sx={{ display: "flex", alignItems: "center", gap: 0.75, fontSize: 13 }} onKeyDown={(e) => e.key !== "Escape" && e.stopPropagation()}>
        {choice.label}
        <Autocomplete
          size="small"
          disableClearable
          openOnFocus
          autoHighlight
          onOpen={() => setOpen(true)}
          onClose={() => setOpen(false)}
          selectOnFocus
          value={choice.options.find(([v]) => v === value) ?? [value, value]}
          options={choice.options}
          getOptionLabel={(option: [string, string]) => option[1]}
          getOptionKey={(option: [string, string]) => option[0]}
          isOptionEqualToValue={(a, b) => a[0] === b[0]}
          onChange={(_, option) => onChange(option[0])}
          sx={{ width: 190 }}
          slotProps={{ listbox: { sx: { fontSize: 13, maxHeight: 220 } } }}
          renderInput={(params) => <TextField {...params} variant="standard" slotProps={{ ...params.slotProps, htmlInput: { ...params.slotProps.htmlInput, "aria-label": choice.label, style: { fontSize: 13, padding: 0 } } }} />}
        />
      </Box>
    </Tooltip>
  );
}
