import { Autocomplete, Box, Button, CircularProgress, Paper, TextField, ToggleButton, ToggleButtonGroup, Tooltip, Typography } from "@mui/material";
import { useEffect, useRef, useState } from "react";
import type { Choice } from "../shared/api";
import { choose, offer, offeredFor, useActions, useOperations } from "./actions";
import { useBench, usePick } from "./state";

/** The small strip at a selection: the operations that apply there, each with the choices that matter. */
export function Offer({ x }: { x: number }) {
  const operations = useOperations();
  const { info, stretch, wish, choices, options, trial, trying } = usePick("info", "stretch", "wish", "choices", "options", "trial", "trying");
  const { apply, drop, copy } = useActions();
  const [unfolded, setUnfolded] = useState(false);
  const strip = useRef<HTMLDivElement>(null);
  // Whoever pressed a button elsewhere to get here goes on here: Enter applies.
  useEffect(() => {
    const at = document.activeElement;
    if (wish && at instanceof HTMLElement && at.closest("button, a") && !strip.current?.contains(at)) strip.current?.focus();
  }, [wish]);
  if (!info || (!stretch && !wish)) return null;
  const offered = stretch ? offeredFor(operations, info, stretch.parts) : [];
  const current = operations?.find((o) => o.id === wish?.operation);
  const span = stretch ? (stretch.last >= info.last ? `frame ${stretch.first} on` : `frames ${stretch.first}–${stretch.last}`) : wish && wish.operation !== "drivers" ? `at frame ${wish.first}` : "";
  const counts = (c: Choice) => !c.when || !(c.when.choice in choices) || c.when.values.includes(String(choices[c.when.choice]));
  return (
    <Paper
      ref={strip}
      tabIndex={-1}
      elevation={6}
      role="dialog"
      aria-label="What can be done here"
      data-testid="offer"
      // A choice just made has the focus: Enter means what was tried, Space makes choices.
      onKeyDownCapture={(e) => {
        if (e.key !== "Enter" || (e.target as HTMLElement).closest("[data-own-enter]")) return;
        e.preventDefault();
        e.stopPropagation();
        if (trial) apply();
      }}
      sx={{ position: "absolute", left: x, bottom: "100%", mb: "46px", px: 1.25, py: 0.75, zIndex: 5, display: "flex", alignItems: "center", gap: 0.75, whiteSpace: "nowrap", maxWidth: "calc(100vw - 16px)", flexWrap: "wrap", "& .MuiButton-root": { flexShrink: 0, minWidth: 0, px: 1 } }}
    >
      {offered.length > 1 && stretch ? (
        <ToggleButtonGroup size="small" exclusive value={wish?.operation ?? ""} onChange={(_, v: string | null) => v && void offer(operations, info, stretch, v)} aria-label="Operation">
          {offered.map((o) => (
            <ToggleButton key={o.id} value={o.id} title={o.help} sx={{ py: 0.25, px: 1, textTransform: "none", fontWeight: 700 }}>
              {o.label}
            </ToggleButton>
          ))}
        </ToggleButtonGroup>
      ) : (
        current && (
          <Tooltip title={current.help}>
            <Typography sx={{ fontWeight: 700, fontSize: 14 }}>{current.label}</Typography>
          </Tooltip>
        )
      )}
      {current?.choices
        .filter((c) => counts(c) && (unfolded || !c.folded))
        .map((c) => (
          <Control key={c.name} choice={options[c.name] ? { ...c, options: options[c.name]! } : c} value={choices[c.name] ?? c.default} onChange={(v) => void choose(c.name, v)} />
        ))}
      {current?.choices.some((c) => c.folded && counts(c)) && (
        <Button size="small" data-own-enter onClick={() => setUnfolded(!unfolded)} aria-expanded={unfolded}>
          {unfolded ? "less" : "more…"}
        </Button>
      )}
      <Typography sx={{ fontSize: 12.5, color: "text.secondary" }}>{span}</Typography>
      {stretch && (
        <Button size="small" data-own-enter onClick={() => void copy()} title="Keep this stretch as a clip (Ctrl+C)">
          Copy
        </Button>
      )}
      {current && (
        <Button variant="contained" disableElevation size="small" disabled={!trial} onClick={apply} startIcon={trying ? <CircularProgress size={12} color="inherit" /> : undefined}>
          Apply ⏎
        </Button>
      )}
      <Button size="small" data-own-enter onClick={drop}>
        Drop Esc
      </Button>
    </Paper>
  );
}

function Control({ choice, value, onChange }: { choice: Choice; value: string | number; onChange: (value: string | number) => void }) {
  if (choice.kind === "options" || choice.kind === "name")
    return (
      <ToggleButtonGroup size="small" exclusive value={value} onChange={(_, v: string | null) => v !== null && onChange(v)} aria-label={choice.label}>
        {choice.options.map(([key, label]) => (
          <ToggleButton key={key} value={key} sx={{ py: 0.25, px: 1, textTransform: "none" }}>
            {label}
          </ToggleButton>
        ))}
      </ToggleButtonGroup>
    );
  if (choice.kind === "anchor") return <Anchors choice={choice} value={String(value)} onChange={onChange} />;
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

/** Something to follow, out of all that can be followed: typed to be found, or clicked in the view. */
function Anchors({ choice, value, onChange }: { choice: Choice; value: string; onChange: (value: string) => void }) {
  return (
    <Tooltip title={choice.help} placement="top">
      <Box data-own-enter sx={{ display: "flex", alignItems: "center", gap: 0.75, fontSize: 13 }} onKeyDown={(e) => e.key !== "Escape" && e.stopPropagation()}>
        {choice.label}
        <Autocomplete
          size="small"
          disableClearable
          openOnFocus
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

interface NumberProps {
  label: string;
  value: number;
  onChange: (value: number) => void;
  whole?: boolean;
  least?: number;
  most?: number;
  width?: number;
  /** Only Enter and leaving the field count, not every stroke. */
  late?: boolean;
}

/** A number that may be typed: what can't be read yet stays in the field and changes nothing. */
export function NumberField({ label, value, onChange, whole = false, least = -1e6, most = 1e6, width = 52, late = false }: NumberProps) {
  const [typed, setTyped] = useState<string | null>(null);
  const text = typed ?? String(value);
  const n = Number(text);
  const fine = text.trim() !== "" && Number.isFinite(n) && n >= least && n <= most && (!whole || Number.isInteger(n));
  const commit = () => {
    if (fine && n !== value) onChange(n);
    setTyped(null);
  };
  return (
    <TextField
      size="small"
      variant="standard"
      value={text}
      error={!fine}
      onKeyDown={(e) => {
        if (e.key === "Enter" && late) {
          e.stopPropagation();
          commit();
        } else if (e.key === "Escape" && late) {
          e.stopPropagation();
          setTyped(null);
          (e.target as HTMLElement).blur();
        } else if (e.key !== "Escape" && e.key !== "Enter") e.stopPropagation();
      }}
      onChange={(e) => {
        setTyped(e.target.value);
        const now = Number(e.target.value);
        if (!late && e.target.value.trim() !== "" && Number.isFinite(now) && now >= least && now <= most && (!whole || Number.isInteger(now))) onChange(now);
      }}
      onFocus={(e) => late && e.target.select()}
      onBlur={() => (late ? commit() : setTyped(null))}
      slotProps={{ input: { disableUnderline: late }, htmlInput: { inputMode: "decimal", "aria-label": label, style: { width, textAlign: "right", fontSize: 12.5, padding: 0 } } }}
    />
  );
}

/** Where the strip stands when nothing is selected on the strands. */
export function useOfferShown() {
  // A dial that is being turned is its own strip.
  return useBench((s) => (s.wish !== null && s.wish.operation !== "edit") || s.stretch !== null);
}
