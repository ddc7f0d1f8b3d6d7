import { Box, Button, Checkbox, Collapse, IconButton, Link, MenuItem, Paper, Select, Slider, Tooltip, Typography, useTheme } from "@mui/material";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get, type Card, type KeyEdit } from "../shared/api";
import { channelValue, degrees, mm, shownNumber, storedNumber } from "../shared/format";
import { sideMark } from "../shared/theme";
import { offer, useActions, useOperations } from "./actions";
import { NumberField } from "./Offer";
import { BOTH, NOTHING, strandOf, useBench, usePick, type KeyRule } from "./state";

type Channel = Card["systems"][number]["channels"][number];

/** The part in hand at this frame: what drives it, what it follows, the values of both its systems. */
export function PartCard() {
  const theme = useTheme();
  const { info, focus, playing, keyRule, set } = usePick("info", "focus", "playing", "keyRule", "set");
  // While it plays the card stands still: nobody reads it, and each frame would draw it anew.
  const frame = useBench((s) => (s.playing ? -1 : s.frame));
  const [other, setOther] = useState(false);
  const [more, setMore] = useState(false);
  const { keyPart } = useActions();
  const operations = useOperations();
  const card = useQuery({
    queryKey: ["card", info?.id, info?.revision, focus?.member, focus?.part, frame],
    queryFn: ({ signal }) =>
      get<Card>(`/takes/${info!.id}/card?member=${encodeURIComponent(focus!.member)}&part=${encodeURIComponent(focus!.part)}&frame=${frame}&revision=${info!.revision}`, signal),
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
  const hue = data.side === "left" ? theme.ink.left : data.side === "right" ? theme.ink.right : theme.ink.middle;
  const systems = [...data.systems].sort((a, b) => Number(b.driving) - Number(a.driving));
  const whole = systems.filter((s) => s.driving || systems.length === 1 || data.driver === BOTH);
  const label = (system: string) => data.systems.find((s) => s.system === system)?.label ?? system;
  const idle = systems.filter((s) => !whole.includes(s));
  return (
    <Paper variant="outlined" component="section" aria-label="Part card" sx={{ p: 1.25, width: 268, maxHeight: "100%", overflow: "auto" }}>
      <Box sx={{ display: "flex", alignItems: "center" }}>
        <Typography component="h2" sx={{ fontWeight: 700, fontSize: 16, color: hue, flexGrow: 1 }}>
          <span aria-hidden>{sideMark[data.side]} </span>
          {data.label}
        </Typography>
        <Tooltip title="Keys both systems, the driver and what is followed, here (K)">
          <Button size="small" onClick={keyPart} sx={{ py: 0 }}>
            Key the part
          </Button>
        </Tooltip>
      </Box>
      <Typography data-testid="driver" sx={{ fontSize: 13 }}>
        {data.says && <b>{data.says}</b>}
        {data.follows.map((f) => (
          <span key={f.anchor}>{f.system === data.driver || data.driver === BOTH ? `${data.says ? ", " : ""}follows ${f.anchor}` : `; in ${label(f.system)} it would follow ${f.anchor}`}</span>
        ))}
      </Typography>
      {strandOf(info!, focus)
        ?.contacts.filter((c) => frame >= c.first && frame <= c.last)
        .map((c) => (
          <Typography key={c.id} sx={{ fontSize: 12.5 }}>
            On {c.anchor},{" "}
            <Link component="button" underline="hover" sx={{ fontSize: 12.5, verticalAlign: "baseline" }} onClick={() => void offer(operations, info!, { parts: [focus], first: c.first, last: c.last }, "plant")}>
              frames {c.first}–{c.last}
            </Link>
            , slips {mm(c.slip)}
          </Typography>
        ))}
      {data.idle_place !== null && systems.some((s) => s.keyed && s.driving) && (
        <Typography sx={{ fontSize: 12.5, color: "text.secondary" }}>
          Idle keys stand {mm(data.idle_place)} and {degrees(data.idle_turn ?? 0, 1)} off the pose.
        </Typography>
      )}
      {data.dials.map((dial) => (
        <FollowDial key={`${dial.channels[0]} ${frame} ${dial.weight}`} dial={dial} frame={frame} onKeep={() => void offer(operations, info!, { parts: [focus], first: frame, last: info!.last }, "retether")} />
      ))}
      {whole.map((system) => (
        <Box key={system.system} sx={{ mt: 0.5 }}>
          <Values channels={system.channels} title={systems.length > 1 ? `${capital(system.label)}${system.driving ? ", driving" : ""}` : ""} />
        </Box>
      ))}
      <Box sx={{ display: "flex", gap: 1.5, mt: 0.25 }}>
        {idle.length > 0 && <Fold open={other} onClick={() => setOther(!other)} label={idle.map((s) => `${capital(s.label)}, idle`).join("; ")} />}
        {data.others.length > 0 && <Fold open={more} onClick={() => setMore(!more)} label="driver and more" />}
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
          Kind of all drivers… (D)
        </Link>
      </Collapse>
      <Box sx={{ mt: 0.75, fontSize: 12, color: "text.secondary", borderTop: 1, borderColor: "divider", pt: 0.5 }}>
        <span>Letting go of a drag keys </span>
        <Select variant="standard" disableUnderline value={keyRule} onChange={(e) => set({ keyRule: e.target.value as KeyRule })} inputProps={{ "aria-label": "What letting go of a drag keys" }} sx={{ fontSize: 12, "& .MuiSelect-select": { py: 0 } }}>
          <MenuItem value="dragged">what was dragged</MenuItem>
          <MenuItem value="part">the whole part</MenuItem>
          <MenuItem value="ask">nothing until K</MenuItem>
        </Select>
        <span>{data.rule}</span>
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

/** How far a control follows something here: turned, the pose blends as it is seen; let go, it is keyed. A click on what is
 * followed offers to follow something else, with the pose kept. */
function FollowDial({ dial, frame, onKeep }: { dial: Card["dials"][number]; frame: number; onKeep: () => void }) {
  const set = useBench((s) => s.set);
  const { edit } = useActions();
  const [turned, setTurned] = useState<number | null>(null);
  const percent = Math.round(100 * (turned ?? dial.weight));
  const change = (weight: number): KeyEdit => ({ what: "add", keys: dial.channels.map((channel) => ({ channel, times: [frame] })), values: { arriving: weight, leaving: weight } });
  return (
      <Box sx={{ display: "flex", alignItems: "center", gap: 1, fontSize: 12.5, height: 19 }}>
        <Tooltip title="The dial blends the pose. To follow something else with the pose kept, click here." placement="right">
          <Link component="button" underline="hover" onClick={onKeep} sx={{ width: 92, flexShrink: 0, fontSize: 12.5, textAlign: "left", whiteSpace: "nowrap", overflow: "hidden", textOverflow: "ellipsis" }}>
            <span aria-hidden>{dial.keyed ? "● " : "○ "}</span>
            {dial.anchor}
          </Link>
        </Tooltip>
        <Slider
          size="small"
          min={0}
          max={100}
          value={percent}
          aria-label={`How far it follows ${dial.anchor}`}
          getAriaValueText={(v) => `${v} %`}
          onKeyDown={(e) => e.stopPropagation()}
          onChange={(_, v) => {
            const weight = (v as number) / 100;
            setTurned(weight);
            set({ wish: { operation: "edit", parts: [], first: frame, last: null, edit: change(weight) }, choices: {}, stretch: null });
          }}
          onChangeCommitted={(_, v) => {
            set(NOTHING);
            const weight = (v as number) / 100;
            if (weight === dial.weight) setTurned(null);
            else void edit(change(weight)).then((done) => done || setTurned(null));
          }}
          sx={{ py: 0 }}
        />
        <Box sx={{ width: 44, flexShrink: 0, textAlign: "right", whiteSpace: "nowrap" }}>{percent} %</Box>
      </Box>
  );
}

/** Channel values: each can be typed, keyed or freed of its key, and laid out as a curve. */
function Values({ channels, title, fits }: { channels: Channel[]; title: string; fits?: boolean }) {
  const { frame, channels: laid, set } = usePick("frame", "channels", "set");
  const { edit } = useActions();
  const lay = (name: string) => {
    const next = laid.includes(name) ? laid.filter((n) => n !== name) : [...laid, name];
    set({ channels: next, curves: next.length > 0 });
  };
  const give = (c: Channel, value: number) => void edit({ what: "add", keys: [{ channel: c.name, times: [frame] }], values: { arriving: value, leaving: value } });
  const toggle = (c: Channel) => void edit({ what: c.keyed ? "delete" : "add", keys: [{ channel: c.name, times: [frame] }] });
  return (
    <Box component="table" sx={{ width: "100%", borderCollapse: "collapse", fontSize: 12.5, lineHeight: 1.15, "& td": { py: 0 }, "& input": { height: 16 }, "& input:hover": { textDecoration: "underline dotted" } }}>
      {title && <caption style={{ textAlign: "left", fontWeight: 650, captionSide: "top", padding: "2px 0" }}>{title}</caption>}
      <tbody>
        {channels.map((c) => (
          <tr key={c.name}>
            <td style={{ width: 18 }}>
              <IconButton size="small" onClick={() => toggle(c)} aria-label={`${c.keyed ? "Delete the key" : "Put a key"} of ${c.label} at this frame`} title={c.keyed ? "keyed at this frame" : "no key at this frame"} sx={{ p: 0, fontSize: 12, width: 16, color: c.keyed ? "primary.main" : "text.secondary" }}>
                {c.keyed ? "●" : "○"}
              </IconButton>
            </td>
            <td>{c.label}</td>
            <td style={{ textAlign: "right" }}>
              {fits ? (
                channelValue(c.value, c.unit)
              ) : (
                <span style={{ whiteSpace: "nowrap" }}>
                  <NumberField late width={54} label={`${c.label} at this frame`} least={c.least === null ? undefined : shownNumber(c.least, c.unit)} most={c.most === null ? undefined : shownNumber(c.most, c.unit)} value={shownNumber(c.value, c.unit)} onChange={(v) => give(c, storedNumber(v, c.unit))} />
                  <span style={{ display: "inline-block", width: 22, textAlign: "left", paddingLeft: 2 }}>{c.unit === "rad" ? "°" : c.unit === "m" ? "mm" : ""}</span>
                </span>
              )}
            </td>
            <td style={{ textAlign: "right", width: 20 }}>
              {fits ? (
                <span style={{ color: "inherit" }}>{channelValue(c.fits, c.unit)}</span>
              ) : (
                <Tooltip title="Lay out as a curve" placement="right">
                  <Checkbox size="small" checked={laid.includes(c.name)} onChange={() => lay(c.name)} sx={{ p: 0, "& svg": { fontSize: 15 } }} slotProps={{ input: { "aria-label": `Curve of ${c.label}` } }} />
                </Tooltip>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </Box>
  );
}
