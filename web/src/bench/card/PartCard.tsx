import { Box, Button, Collapse, Link, MenuItem, Paper, Select, Tooltip, Typography, useTheme } from "@mui/material";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get, type Card } from "../../shared/api";
import { degrees, mm } from "../../shared/format";
import { sideMark } from "../../shared/theme";
import { offer, useActions, useOperations } from "../actions";
import { BOTH, same, strandOf, useBench, usePick, type KeyRule } from "../state";
import { FollowDial } from "./FollowDial";
import { Points } from "./Points";
import { Values } from "./Values";

/** What of a sole above or below its ground is worth a word, metres. */
const SUNK = 1e-5;
/** Metres that are nothing to the eye: closed fingers lie as far off what they hold. */
const SEEN = 5e-4;

/** The part in hand at this frame: what drives it, what it follows, the values of both its systems. */
export function PartCard() {
  const theme = useTheme();
  const { info, focus, playing, keyRule, stays, layer, set } = usePick("info", "focus", "playing", "keyRule", "stays", "layer", "set");
  // While it plays the card stands still: nobody reads it, and each frame would draw it anew.
  const frame = useBench((s) => (s.playing ? -1 : s.frame));
  const [other, setOther] = useState(false);
  const [more, setMore] = useState(false);
  const { keyPart } = useActions();
  const operations = useOperations();
  const card = useQuery({
    queryKey: ["card", info?.id, info?.revision, focus?.member, focus?.part, frame, layer],
    queryFn: ({ signal }) =>
      get<Card>(`/takes/${info!.id}/card?member=${encodeURIComponent(focus!.member)}&part=${encodeURIComponent(focus!.part)}&frame=${frame}&revision=${info!.revision}&layer=${layer}`, signal),
    enabled: !!info && !!focus && !playing,
    placeholderData: keepPreviousData,
    gcTime: 20_000,
  });
  const data = card.data;
  if (!focus)
    return (
      <Paper variant="outlined" sx={{ p: 2, width: 268 }}>
        <Typography>Click a body, or a strand, to take a part in hand.</Typography>
      </Paper>
    );
  if (!data) return null;
  const ends = info!.members.find((m) => m.id === focus.member)?.parts.find((p) => p.name === focus.part)?.end ?? false;
  const held = stays.some((p) => same(p, focus));
  const hue = data.side === "left" ? theme.ink.left : data.side === "right" ? theme.ink.right : theme.ink.middle;
  const systems = [...data.systems].sort((a, b) => Number(b.driving) - Number(a.driving));
  const whole = systems.filter((s) => s.driving || systems.length === 1 || data.driver === BOTH);
  // Where several are at work it is told whose part this is.
  const characters = info!.members.filter((m) => m.kind === "character");
  const whose = characters.length > 1 ? characters.find((m) => m.id === focus.member)?.name : undefined;
  const label = (system: string) => data.systems.find((s) => s.system === system)?.label ?? system;
  const idle = systems.filter((s) => !whole.includes(s));
  return (
    <Paper variant="outlined" component="section" aria-label="Part card" sx={{ p: 1.25, width: 268, maxHeight: "100%", display: "flex", flexDirection: "column" }}>
      <Box sx={{ display: "flex", alignItems: "center", flexShrink: 0 }}>
        <Typography component="h2" sx={{ fontWeight: 700, fontSize: 16, color: hue, flexGrow: 1 }}>
          <span aria-hidden>{sideMark[data.side]} </span>
          {whose ? `${whose}'s ${data.label}` : data.label}
        </Typography>
        {ends && (
          <Tooltip title="Its end stays where it is while other parts are dragged (A)">
            <Button size="small" variant={held ? "contained" : "text"} disableElevation aria-pressed={held} onClick={() => set({ stays: held ? stays.filter((p) => !same(p, focus)) : [...stays, focus] })} sx={{ py: 0, minWidth: 0, mr: 0.5 }}>
              {held ? "stays" : "stay"}
            </Button>
          </Tooltip>
        )}
        <Tooltip title="Keys both systems, the driver and what is followed, here (K)">
          <Button size="small" onClick={keyPart} sx={{ py: 0 }}>
            Key it
          </Button>
        </Tooltip>
      </Box>
      <Box sx={{ overflow: "auto", minHeight: 0 }}>
      <Typography data-testid="driver" sx={{ fontSize: 13 }}>
        {data.says && <b>{data.says}</b>}
        {data.follows.map((f, k) => (
          <span key={`${f.system} ${f.says} ${k}`}>{f.system === data.driver || data.driver === BOTH ? `${data.says || k ? ", " : ""}${f.says}` : `; ${label(f.system)}, idle, ${f.says}`}</span>
        ))}
      </Typography>
      {strandOf(info!, focus)
        ?.contacts.filter((c) => frame >= c.first && frame <= c.last)
        .map((c) => (
          <Typography key={c.id} sx={{ fontSize: 12.5 }}>
            {c.of ? `${capital(c.of)} on` : "On"} {c.anchor},{" "}
            <Link component="button" underline="hover" sx={{ fontSize: 12.5, verticalAlign: "baseline" }} onClick={() => void offer(operations, info!, { parts: [focus], first: c.first, last: c.last }, "plant")}>
              frames {c.first}–{c.last}
            </Link>
            , slips {mm(c.slip)}
            {c.depth >= SUNK && `, sinks ${mm(c.depth)} into it`}
            {c.hover >= SEEN && `, hovers ${mm(c.hover)} over it`}
          </Typography>
        ))}
      {data.idle_place !== null && systems.some((s) => s.keyed && s.driving) && (
        <Typography sx={{ fontSize: 12.5, color: "text.secondary" }}>
          Idle keys stand {mm(data.idle_place)} and {degrees(data.idle_turn ?? 0, 1)} off the pose.
        </Typography>
      )}
      {data.dials.map((dial) => (
        <FollowDial key={dial.channels[0]} dial={dial} part={data.label} frame={frame} onKeep={() => void offer(operations, info!, { parts: [focus], first: frame, last: info!.last }, "retether")} />
      ))}
      <Points />
      {whole.map((system) => (
        <Box key={system.system} sx={{ mt: 0.5 }}>
          <Values channels={system.channels} title={systems.length > 1 ? `${capital(system.label)}${system.driving ? ", driving" : ""}` : ""} />
        </Box>
      ))}
      <Box sx={{ display: "flex", flexWrap: "wrap", columnGap: 1.5, mt: 0.25, whiteSpace: "nowrap" }}>
        {idle.length > 0 && <Fold open={other} onClick={() => setOther(!other)} label={idle.map((s) => `${capital(s.label)}, idle`).join("; ")} />}
        {data.others.length > 0 && <Fold open={more} onClick={() => setMore(!more)} label="what drives, and more" />}
      </Box>
      {idle.map((system) => (
        <Collapse key={system.system} in={other} unmountOnExit>
          <Values channels={system.channels} title={`${capital(system.label)}: stored, and as the pose wants it`} fits />
        </Collapse>
      ))}
      <Collapse in={more} unmountOnExit>
        <Values channels={data.others} title="" />
        <Link
          component="button"
          underline="hover"
          onClick={() => set({ wish: { operation: "drivers", parts: [], first: info!.first, last: null }, choices: { kind: "stepped" }, stretch: null, trial: null })}
          sx={{ fontSize: 12.5 }}
        >
          Kind of all system changes… (D)
        </Link>
      </Collapse>
      </Box>
      <Box sx={{ flexShrink: 0, fontSize: 12, color: "text.secondary", borderTop: 1, borderColor: "divider", pt: 0.5 }}>
        <Tooltip title={data.rule}>
          <span>A drag keys </span>
        </Tooltip>
        {layer && <b>on {info!.layers.find((l) => l.id === layer)?.name} </b>}
        <Select variant="standard" disableUnderline value={keyRule} onChange={(e) => set({ keyRule: e.target.value as KeyRule })} inputProps={{ "aria-label": "What letting go of a drag keys" }} sx={{ fontSize: 12, "& .MuiSelect-select": { py: 0 } }}>
          <MenuItem value="dragged">what was dragged</MenuItem>
          <MenuItem value="part">the whole part</MenuItem>
          <MenuItem value="ask">nothing until K</MenuItem>
        </Select>
      </Box>
    </Paper>
  );
}

const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);

function Fold({ open, onClick, label }: { open: boolean; onClick: () => void; label: string }) {
  return (
    <Link component="button" underline="hover" onClick={onClick} aria-expanded={open} sx={{ fontSize: 12.5 }}>
      {open ? "▾" : "▸"} {label}
    </Link>
  );
}
