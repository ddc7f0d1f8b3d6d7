import { Box, ButtonBase, IconButton, useTheme } from "@mui/material";
import { follow } from "../../shared/drag";
import { sideMark } from "../../shared/theme";
import { same, usePick } from "../state";
import { LEAST_HEIGHT, planksHeight, type Row, type RowChoices } from "./rows";

interface Props {
  rows: Row[];
  width: number;
  choices: RowChoices;
  onChange: (choices: RowChoices) => void;
  onJoin: (row: Row) => void;
}

/** Names of the rows: a click takes the part in hand, with Shift it joins the stretch, a caret folds, a pin keeps a row on top, its foot drags its height. */
export function RowLabels({ rows, width, ...more }: Props) {
  return (
    <Box sx={{ width, flexShrink: 0 }}>
      {rows.map((row) => (
        <Label key={`${row.key}${row.pinned}`} row={row} {...more} />
      ))}
    </Box>
  );
}

function Label({ row, choices, onChange, onJoin }: Omit<Props, "rows" | "width"> & { row: Row }) {
  const theme = useTheme();
  const { focus, set } = usePick("focus", "set");
  const { strand, fold } = row;
  const mine = strand !== null && same(strand, focus);
  const side = strand?.side ?? "middle";
  const hue = side === "left" ? theme.ink.left : side === "right" ? theme.ink.right : theme.ink.middle;
  const faulty = (strand?.findings.length ?? 0) + row.under.reduce((n, s) => n + s.findings.length, 0) > 0;
  const turnFold = () => fold && onChange({ ...choices, folded: { ...choices.folded, [fold.id]: fold.open } });
  const turnPin = () => onChange({ ...choices, pinned: row.pinned ? choices.pinned.filter((k) => k !== row.key) : [...choices.pinned, row.key] });
  const stretchRow = (event: React.PointerEvent) => {
    event.preventDefault();
    const own = row.height - (strand ? planksHeight(strand) : 0);
    follow((e) => onChange({ ...choices, heights: { ...choices.heights, [row.key]: Math.max(LEAST_HEIGHT, Math.round(own + e.clientY - event.clientY)) } }));
  };
  return (
    <Box
      sx={{
        position: "relative", display: "flex", alignItems: "center", height: row.height, borderBottom: 1, borderColor: "divider", bgcolor: mine ? theme.ink.accentSoft : undefined,
        "& .pin": { opacity: row.pinned ? 1 : 0 }, "&:hover .pin, & .pin:focus-visible": { opacity: 1 },
      }}
    >
      {fold ? (
        <ButtonBase onClick={turnFold} aria-expanded={fold.open} aria-label={`${fold.open ? "Fold" : "Unfold"} ${row.label}`} sx={{ width: 20, height: "100%", flexShrink: 0, ml: row.depth, color: "text.secondary", fontSize: 11 }}>
          {fold.open ? "▾" : "▸"}
        </ButtonBase>
      ) : (
        <Box sx={{ width: 20 + 8 * row.depth, flexShrink: 0 }} />
      )}
      <ButtonBase
        onClick={(e) => (e.shiftKey ? onJoin(row) : strand ? set({ focus: { member: strand.member, part: strand.part } }) : turnFold())}
        aria-pressed={strand ? mine : undefined}
        sx={{ flexGrow: 1, minWidth: 0, height: "100%", display: "flex", justifyContent: "flex-start", pr: 0.5, fontFamily: theme.typography.fontFamily, fontSize: strand?.main ? 13.5 : 11.5, fontWeight: strand?.main || !strand ? 650 : 450, color: hue }}
      >
        <span aria-hidden>{sideMark[side]}&nbsp;</span>
        <Box component="span" sx={{ overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" }}>
          {row.label}
        </Box>
        {row.under.length > 0 && (
          <Box component="span" sx={{ ml: 0.75, fontSize: 10.5, fontWeight: 450, color: "text.secondary", whiteSpace: "nowrap" }}>
            +{row.under.length}
          </Box>
        )}
        {faulty && (
          <span style={{ color: theme.ink.alarm, marginLeft: 6 }}>
            ▲<span style={{ position: "absolute", left: -9999 }}>has findings</span>
          </span>
        )}
      </ButtonBase>
      {strand && (
        <IconButton className="pin" size="small" onClick={turnPin} aria-pressed={row.pinned} aria-label={row.pinned ? `Let ${row.label} go from the top` : `Keep ${row.label} on top`} title={row.pinned ? "Let it go from the top" : "Keep this row on top"} sx={{ p: 0, width: 16, height: 16, fontSize: 11, mr: 0.25, color: row.pinned ? "primary.main" : "text.secondary" }}>
          ⤒
        </IconButton>
      )}
      <Box onPointerDown={stretchRow} aria-hidden sx={{ position: "absolute", left: 0, right: 0, bottom: -2, height: 5, cursor: "ns-resize", touchAction: "none", zIndex: 1 }} />
    </Box>
  );
}
