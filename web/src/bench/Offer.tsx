import { Box, Button, CircularProgress, Menu, MenuItem, ToggleButton, ToggleButtonGroup, Tooltip, Typography } from "@mui/material";
import { useEffect, useRef, useState } from "react";
import { offer, offeredFor, useActions, useOperations } from "./actions";
import { Control } from "./Choices";
import { useBench, usePick } from "./state";
import { progressOf } from "../shared/jobs";
import { useSize } from "../shared/useSize";
import type { Operation } from "../shared/api";
import { FINISH, counts, fitted } from "./offered";

/** The strip of choices, docked above the strands: the operations that apply to what is selected, and what each can be told. */
export function Offer() {
  const shown = useBench((s) => (s.wish !== null && s.wish.operation !== "edit") || s.stretch !== null);
  return shown ? <Strip /> : null;
}

function Strip() {
  const operations = useOperations();
  const { info, stretch, wish, choices, options } = usePick("info", "stretch", "wish", "choices", "options");
  const { apply } = useActions();
  const [unfolded, setUnfolded] = useState(false);
  const strip = useRef<HTMLDivElement>(null);
  const { width } = useSize(strip);
  // Whoever pressed a button elsewhere to get here goes on here: Enter applies.
  useEffect(() => {
    const at = document.activeElement;
    if (wish && at instanceof HTMLElement && at.closest("button, a") && !strip.current?.contains(at)) strip.current?.focus();
  }, [wish]);
  if (!info) return null;
  const offered = stretch ? offeredFor(operations, info, stretch.parts) : [];
  const current = operations?.find((o) => o.id === wish?.operation);
  // What becomes of layers is asked where there are any.
  const layered = info.layers.some((l) => l.heard);
  const able = current?.choices.filter((c) => counts(current, c, choices) && (layered || c.name !== "layers")) ?? [];
  const line = { display: "flex", alignItems: "center", gap: 0.75, minHeight: 30, whiteSpace: "nowrap" } as const;
  return (
    <Box
      ref={strip}
      tabIndex={-1}
      role="dialog"
      aria-label="What can be done here"
      data-testid="offer"
      // A choice just made has the focus: Enter means what was tried.
      onKeyDownCapture={(e) => {
        if (e.key !== "Enter" || (e.target as HTMLElement).closest("[data-own-enter]")) return;
        e.preventDefault();
        e.stopPropagation();
        apply();
      }}
      sx={{ px: 1.25, py: 0.5, borderTop: 2, borderColor: "primary.main", bgcolor: "background.paper", outline: "none", "& .MuiButton-root": { flexShrink: 0, minWidth: 0, px: 1, py: 0.25 } }}
    >
      <Box sx={line}>
        {offered.length > 1 && stretch ? (
          <Offered offered={offered} chosen={wish?.operation ?? ""} width={width} onChoose={(id) => void offer(operations, info, stretch, id)} />
        ) : (
          <Tooltip title={current?.help ?? ""}>
            <Typography sx={{ fontWeight: 700, fontSize: 14 }}>{current?.label ?? "Nothing can be done there"}</Typography>
          </Tooltip>
        )}
        <Box sx={{ flexGrow: 1 }} />
        <Finish able={current !== undefined} />
      </Box>
      {able.length > 0 && (
        <Box sx={{ ...line, overflowX: "auto", overflowY: "hidden", flexWrap: unfolded ? "wrap" : "nowrap" }} data-testid="choices">
          {able
            .filter((c) => unfolded || !c.folded)
            .map((c) => (
              <Control key={c.name} choice={options[c.name] ? { ...c, options: options[c.name]! } : c} value={choices[c.name] ?? c.default} />
            ))}
          {able.some((c) => c.folded) && (
            <Button
              size="small"
              data-own-enter
              aria-expanded={unfolded}
              onClick={(e) => {
                setUnfolded(!unfolded);
                // Who came by the keyboard may fold it again; after a click Enter means what was tried.
                if (e.detail > 0) strip.current?.focus();
              }}
            >
              {unfolded ? "less" : "more…"}
            </Button>
          )}
        </Box>
      )}
    </Box>
  );
}

/** Operations side by side, as many as there is room for; the others are behind a button. */
function Offered({ offered, chosen, width, onChoose }: { offered: Operation[]; chosen: string; width: number; onChoose: (id: string) => void }) {
  const [menu, setMenu] = useState<HTMLElement | null>(null);
  const { beside, more } = fitted(offered, chosen, width - FINISH);
  return (
    <>
      <ToggleButtonGroup size="small" exclusive value={chosen} onChange={(_, v: string | null) => v && onChoose(v)} aria-label="Operation">
        {beside.map((o) => (
          <ToggleButton key={o.id} value={o.id} title={o.help} sx={{ py: 0.1, px: 1, textTransform: "none", fontWeight: 700 }}>
            {o.label}
          </ToggleButton>
        ))}
      </ToggleButtonGroup>
      {more.length > 0 && (
        <Button size="small" data-own-enter aria-haspopup="menu" onClick={(e) => setMenu(e.currentTarget)}>
          {more.length} more ▾
        </Button>
      )}
      {/* What is chosen there is applied by the next Enter, and so the button must not get the focus back. */}
      <Menu open={menu !== null} anchorEl={menu} onClose={() => setMenu(null)} disableRestoreFocus>
        {more.map((o) => (
          <MenuItem
            key={o.id}
            dense
            title={o.help}
            onClick={() => {
              setMenu(null);
              onChoose(o.id);
            }}
          >
            {o.label}
          </MenuItem>
        ))}
      </Menu>
    </>
  );
}

/** What it is about, and the ways to end it. */
function Finish({ able }: { able: boolean }) {
  const { info, stretch, wish, trial, trying, job } = usePick("info", "stretch", "wish", "trial", "trying", "job");
  const { apply, drop, copy } = useActions();
  const span = stretch ? (stretch.last >= info!.last ? `frame ${stretch.first} on` : `frames ${stretch.first}–${stretch.last}`) : wish && wish.operation !== "drivers" ? `at frame ${wish.first}` : "";
  return (
    <>
      {job ? (
        <Typography data-testid="progress" aria-live="polite" sx={{ fontSize: 12.5, fontVariantNumeric: "tabular-nums" }}>
          {progressOf(job)}
        </Typography>
      ) : (
        <Typography sx={{ fontSize: 12.5, color: "text.secondary" }}>{span}</Typography>
      )}
      {stretch && (
        <Button size="small" data-own-enter onClick={() => void copy()} title="Keep this stretch as a clip (Ctrl+C)">
          Copy
        </Button>
      )}
      {able && (
        <Button variant="contained" disableElevation size="small" disabled={!trial} onClick={apply} startIcon={trying ? <CircularProgress size={12} color="inherit" {...(job ? { variant: "determinate", value: 100 * job.done } : {})} /> : undefined}>
          Apply ⏎
        </Button>
      )}
      <Button size="small" data-own-enter onClick={drop}>
        Drop Esc
      </Button>
    </>
  );
}
