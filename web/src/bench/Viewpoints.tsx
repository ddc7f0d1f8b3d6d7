import { Box, Button, Divider, ListSubheader, Menu, MenuItem, TextField } from "@mui/material";
import { useState } from "react";
import type { TakeInfo } from "../shared/api";
import { keep, useKept } from "../shared/kept";
import { stage } from "./stage/viewpoints";
import { usePick, type Viewed, type Viewpoint } from "./state";

const VIEWS: [Viewpoint, string, string][] = [
  ["free", "three-quarter", "1"],
  ["front", "front", "2"],
  ["side", "side", "3"],
  ["top", "top", "4"],
  ["floor", "floor level", "5"],
];

type Kept = Record<string, NonNullable<Viewed["kept"]>>;

/** Where the camera stands, what it shows, and what it goes with. Places that are kept get a name of their own. */
export function Viewpoints({ info }: { info: TakeInfo }) {
  const { viewpoint, goesWith, set } = usePick("viewpoint", "goesWith", "set");
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const [mine, setMine] = useKept<Kept>(`viewpoints of scene ${info.scene_id}`, {});
  const [name, setName] = useState("");
  const close = () => setAnchor(null);
  const look = (next: Omit<Viewed, "again">) => {
    set({ viewpoint: { ...next, again: viewpoint.again + 1 } });
    close();
  };
  const frame = (what: "part" | "body" | "all") => {
    set({ framing: { what } });
    close();
  };
  const go = (what: string) => {
    if (what === "" || what === "body") keep("camera goes with", what);
    set({ goesWith: what });
    close();
  };
  const keepHere = () => {
    const here = stage();
    const called = name.trim();
    if (!here || !called) return;
    setMine({ ...mine, [called]: { position: here.camera.position.toArray(), target: here.controls.target.toArray() } });
    setName("");
    close();
  };
  const movers = info.members.filter((m) => m.kind === "set" || m.kind === "prop");
  const says = goesWith === "" ? "stands" : goesWith === "body" ? "goes with the body" : `goes with ${movers.find((m) => goesWith.startsWith(`${m.id}/`))?.name.toLowerCase() ?? goesWith}`;
  const cameras = info.members.filter((m) => m.kind === "camera");
  const eye = cameras.find((m) => m.id === viewpoint.through);
  const shown = eye ? `through ${eye.name.toLowerCase()}` : viewpoint.kept ? "kept view" : VIEWS.find(([v]) => v === viewpoint.name)![1];
  const item = { fontSize: 13, py: 0.25, minHeight: 0 };
  return (
    <>
      <Button size="small" aria-haspopup="menu" aria-label={`Viewpoint: ${shown} ▾`} title={`The camera ${says}`} onClick={(e) => setAnchor(e.currentTarget)} sx={{ whiteSpace: "nowrap", fontSize: 12.5, py: 0.25, minWidth: 96 }}>
        {shown} ▾
      </Button>
      <Menu anchorEl={anchor} open={anchor !== null} onClose={close} slotProps={{ list: { dense: true, sx: { py: 0.5 } } }}>
        <ListSubheader sx={{ lineHeight: "24px" }}>See from</ListSubheader>
        {VIEWS.map(([view, label, key]) => (
          <MenuItem key={view} selected={!viewpoint.kept && !eye && viewpoint.name === view} onClick={() => look({ name: view })} sx={item}>
            {label}
            <Box component="span" sx={{ ml: "auto", pl: 3, color: "text.secondary" }}>
              {key}
            </Box>
          </MenuItem>
        ))}
        {cameras.map((m) => (
          <MenuItem key={m.id} selected={eye === m} onClick={() => look({ name: "free", through: m.id })} sx={item}>
            through {m.name.toLowerCase()}
          </MenuItem>
        ))}
        {Object.entries(mine).map(([called, kept]) => (
          <MenuItem key={called} selected={viewpoint.kept === kept} onClick={() => look({ name: "free", kept })} sx={item}>
            {called}
            <Button
              size="small"
              aria-label={`Forget the view ${called}`}
              sx={{ ml: "auto", minWidth: 0, py: 0 }}
              onClick={(e) => {
                e.stopPropagation();
                setMine(Object.fromEntries(Object.entries(mine).filter(([n]) => n !== called)));
              }}
            >
              ✕
            </Button>
          </MenuItem>
        ))}
        <Box component="li" sx={{ px: 2, py: 0.5, display: "flex", gap: 1 }} onKeyDown={(e) => e.key !== "Escape" && e.stopPropagation()}>
          <TextField size="small" variant="standard" placeholder="keep this view as…" value={name} onChange={(e) => setName(e.target.value)} onKeyDown={(e) => e.key === "Enter" && keepHere()} slotProps={{ htmlInput: { "aria-label": "Name of this view", style: { fontSize: 13 } } }} />
          <Button size="small" disabled={!name.trim()} onClick={keepHere} sx={{ py: 0 }}>
            Keep
          </Button>
        </Box>
        <Divider />
        <ListSubheader sx={{ lineHeight: "24px" }}>Bring into the picture</ListSubheader>
        {([["part", "the part in hand", "I"], ["body", "the whole body", "6"], ["all", "all of the cast", "Shift I"]] as const).map(([what, label, key]) => (
          <MenuItem key={what} onClick={() => frame(what)} sx={item}>
            {label}
            <Box component="span" sx={{ ml: "auto", pl: 3, color: "text.secondary" }}>
              {key}
            </Box>
          </MenuItem>
        ))}
        <Divider />
        <ListSubheader sx={{ lineHeight: "24px" }}>The camera goes with</ListSubheader>
        {([["", "nothing: it stands"], ["body", "the body (X)"]] as const).map(([what, label]) => (
          <MenuItem key={what} selected={goesWith === what} onClick={() => go(what)} sx={item}>
            {label}
          </MenuItem>
        ))}
        {movers.map((m) => (
          <MenuItem key={m.id} selected={goesWith === `${m.id}/${m.centre}`} onClick={() => go(`${m.id}/${m.centre}`)} sx={item}>
            {m.name.toLowerCase()}: paths and slips as seen from it
          </MenuItem>
        ))}
      </Menu>
    </>
  );
}
