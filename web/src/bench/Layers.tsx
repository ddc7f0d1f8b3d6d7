import { Box, Button, IconButton, Menu, MenuItem, Paper, Slider, ToggleButton, Tooltip, Typography } from "@mui/material";
import { useEffect, useState } from "react";
import type { LayerInfo, TakeInfo } from "../shared/api";
import { NameField } from "../shared/NameField";
import { Glimpse, useActions } from "./actions";
import { LayerWeight } from "./LayerWeight";
import { looksOf, weightAt, type Doing } from "./layers";
import { useBench, usePick } from "./state";

/** Layers of motion, the highest first: which of them poses and keys go to, which are heard, how far each counts. */
export function Layers({ info }: { info: TakeInfo }) {
  const { layer, stretch, set } = usePick("layer", "stretch", "set");
  const { now } = useActions();
  const doing: Doing = (what, which = "", more = {}, frame) =>
    now({ operation: "layer", parts: [], first: frame ?? useBench.getState().frame, last: null }, { do: what, which, ...more });
  const add = async () => {
    const known = new Set(info.layers.map((l) => l.id));
    const at = stretch ? { first: stretch.first, last: stretch.last } : { first: info.first, last: null };
    // It is taken in hand as soon as it is there.
    const stop = useBench.subscribe((bench) => {
      const fresh = bench.info?.layers.find((l) => !known.has(l.id));
      if (!fresh) return;
      stop();
      set({ layer: fresh.id });
    });
    if (!(await now({ operation: "layer", parts: [], ...at }, { do: "add", fenced: stretch ? "yes" : "no" }))) stop();
  };
  return (
    <Paper variant="outlined" component="section" aria-label="Layers" sx={{ px: 1.25, py: 0.75, width: 300, maxHeight: "60%", overflow: "auto" }}>
      <Box sx={{ display: "flex", alignItems: "center", mb: 0.25 }}>
        <Typography component="h2" sx={{ fontSize: 14, fontWeight: 700, flexGrow: 1 }}>
          Layers
        </Typography>
        {info.layers.some((l) => l.heard) && (
          <Button size="small" onClick={() => void doing("merge all")} title="What all of them make becomes the base" sx={{ py: 0 }}>
            Merge all
          </Button>
        )}
        <Button size="small" onClick={() => void add()} title={stretch ? "A layer that is nothing outside of the stretch" : "A layer on all of the take; select a stretch for one within it"} sx={{ py: 0 }}>
          {stretch ? `On ${stretch.first}–${stretch.last}` : "New layer"}
        </Button>
      </Box>
      {info.layers.toReversed().map((l) => (
        <Row key={l.id} layer={l} chosen={l.id === layer} onChoose={() => set({ layer: l.id })} doing={doing} lowest={l === info.layers[0]} />
      ))}
      <Button fullWidth onClick={() => set({ layer: "" })} aria-pressed={layer === ""} sx={{ justifyContent: "flex-start", py: 0.25, px: 0.5, color: "text.primary", fontWeight: layer === "" ? 700 : 400, bgcolor: layer === "" ? "action.selected" : undefined }}>
        Base
      </Button>
      {info.layers.length === 0 && (
        <Typography color="text.secondary" sx={{ fontSize: 12 }}>
          Motion on top of motion: poses and keys go to the layer in hand, nothing beneath it changes, and its weight says how far it counts.
        </Typography>
      )}
    </Paper>
  );
}

function Row({ layer, chosen, lowest, onChoose, doing }: { layer: LayerInfo; chosen: boolean; lowest: boolean; onChoose: () => void; doing: Doing }) {
  const frame = useBench((s) => s.frame);
  const [naming, setNaming] = useState(false);
  const [menu, setMenu] = useState<HTMLElement | null>(null);
  const [held, setHeld] = useState<number | null>(null);
  const { color, background } = looksOf(layer.id);
  const weight = held ?? weightAt(layer, frame);
  // One number all along, until its weight has keys at frames of their own.
  const over = layer.weights.length > 1;
  const [glimpse] = useState(() => new Glimpse("layer"));
  useEffect(() => () => glimpse.close(), [glimpse]);
  const mark = (what: "mute" | "solo", on: boolean, letter: string, title: string) => (
    <Tooltip title={title}>
      <ToggleButton size="small" value={what} selected={on} aria-label={`${title}: ${layer.name}`} onChange={() => void doing(on ? `un${what}` : what, layer.id)} sx={{ p: 0, width: 24, height: 22, fontSize: 12 }}>
        {letter}
      </ToggleButton>
    </Tooltip>
  );
  const item = (label: string, what: string) => (
    <MenuItem
      dense
      onClick={() => {
        setMenu(null);
        if (what === "name") setNaming(true);
        else void doing(what, layer.id, what === "weight" ? { weight } : {});
      }}
    >
      {label}
    </MenuItem>
  );
  const words = layer.keys ? layer.parts.map((p) => `${p.part} ${p.first}–${p.last}`).join(", ") : "nothing on it yet";
  return (
    <Box sx={{ display: "grid", gridTemplateColumns: "16px minmax(0, 1fr) 70px 40px auto auto auto", alignItems: "center", columnGap: 0.75, bgcolor: chosen ? "action.selected" : undefined, borderRadius: 1, px: 0.5, opacity: layer.heard || !layer.keys ? 1 : 0.55 }}>
      <Box aria-hidden sx={{ color, background, width: 14, height: 14, borderRadius: 0.5, border: 1 }} />
      {naming ? (
        <NameField
          label="Name of the layer"
          value={layer.name}
          onDone={(called) => {
            setNaming(false);
            if (called.trim() && called.trim() !== layer.name) void doing("rename", layer.id, { called });
          }}
        />
      ) : (
        <Button onClick={onChoose} onDoubleClick={() => setNaming(true)} aria-pressed={chosen} title={words} sx={{ justifyContent: "flex-start", p: 0, minWidth: 0, color: "text.primary", fontWeight: chosen ? 700 : 400 }}>
          <Typography component="span" noWrap sx={{ fontSize: 13, fontWeight: "inherit" }}>
            {layer.name}
          </Typography>
        </Button>
      )}
      <Slider
        size="small"
        min={0}
        max={1}
        step={0.01}
        value={Math.min(Math.max(weight, 0), 1)}
        aria-label={`Weight of ${layer.name} ${over ? "at this frame" : "all along"}`}
        onKeyDown={(e) => /^(Arrow|Home|End|Page)/.test(e.key) && e.stopPropagation()}
        onChange={(_, v) => {
          setHeld(v as number);
          glimpse.show({ do: over ? "weight" : "level", which: layer.id, weight: v as number }, useBench.getState().frame);
        }}
        onChangeCommitted={(_, v) =>
          void doing(over ? "weight" : "level", layer.id, { weight: v as number }).then(() => {
            setHeld(null);
            glimpse.close();
          })
        }
      />
      <Typography sx={{ fontSize: 12.5, textAlign: "right" }}>{Math.round(100 * weight)} %</Typography>
      {mark("mute", layer.mute, "m", "Mute")}
      {mark("solo", layer.solo, "s", "Hear alone")}
      <IconButton size="small" aria-label={`More of ${layer.name}`} onClick={(e) => setMenu(e.currentTarget)} sx={{ p: 0, width: 22 }}>
        ⋯
      </IconButton>
      <Menu open={menu !== null} anchorEl={menu} onClose={() => setMenu(null)}>
        {item("Rename", "name")}
        {item("Key its weight at this frame", "weight")}
        {item("Put one higher", "up")}
        {item("Put one lower", "down")}
        {item("Copy", "copy")}
        {item(lowest ? "Merge into the base" : "Merge down", "merge")}
        {item("Take away", "remove")}
      </Menu>
      {chosen && over && <LayerWeight layer={layer} doing={doing} />}
    </Box>
  );
}
