import { Box, Button, ButtonGroup, Tooltip } from "@mui/material";
import { useState } from "react";
import type { CurveKey } from "../../shared/api";
import { useActions } from "../actions";
import { named } from "../keysInHand";
import { NumberField } from "../NumberField";
import { usePick, type KeyRef } from "../state";

/** Height of the row of tools. */
export const TOOLS = 30;

/** What can be done with the keys in hand. */
export function KeyTools({ keys, picked, frame, words }: { keys: CurveKey[]; picked: KeyRef[]; frame: number; words: string }) {
  const { edit } = useActions();
  const { channels, set } = usePick("channels", "set");
  const [factor, setFactor] = useState(1.5);
  const all = named(picked);
  const none = keys.length === 0;
  const give = (values: Record<string, number>) => void edit({ what: "set", keys: all, values });
  const is = (field: "kind" | "rule", value: number) => !none && keys.every((k) => k[field] === value);
  const scaled = () =>
    void edit({ what: "scale", keys: all, about: frame, factor }).then((done) => done && set({ picked: picked.map((k) => ({ ...k, time: frame + factor * (k.time - frame) })) }));
  return (
    <Box role="toolbar" aria-label="Keys in hand" sx={{ height: TOOLS, display: "flex", gap: 0.75, alignItems: "center", px: 1, fontSize: 12, "& .MuiButton-root": { py: 0, minWidth: 0, fontSize: 12 } }}>
      <span data-testid="picked">{words}</span>
      <Tooltip title="A key of every laid-out channel at this frame">
        <span>
          <Button size="small" disabled={!channels.length} onClick={() => void edit({ what: "add", keys: channels.map((channel) => ({ channel, times: [frame] })) })}>
            Add
          </Button>
        </span>
      </Tooltip>
      <ButtonGroup size="small" disabled={none} variant="outlined" aria-label="Kind">
        {["stepped", "linear", "smooth"].map((label, k) => (
          <Button key={label} variant={is("kind", k) ? "contained" : "outlined"} disableElevation onClick={() => give({ kind: k })}>
            {label}
          </Button>
        ))}
      </ButtonGroup>
      <ButtonGroup size="small" disabled={none} variant="outlined" aria-label="Slope">
        {["free", "automatic", "flat"].map((label, k) => (
          <Button key={label} variant={is("rule", k) ? "contained" : "outlined"} disableElevation onClick={() => give({ rule: k })}>
            {label}
          </Button>
        ))}
      </ButtonGroup>
      <Button size="small" disabled={none} onClick={() => give({ lock: keys.every((k) => k.lock) ? 0 : 1 })}>
        {keys.length > 0 && keys.every((k) => k.lock) ? "unlock" : "lock"}
      </Button>
      <Button size="small" disabled={none} onClick={() => give({ tag: keys.every((k) => k.tag === 2) ? 0 : 2 })} title="A mark of your own on these keys">
        {keys.length > 0 && keys.every((k) => k.tag === 2) ? "untag" : "tag"}
      </Button>
      <Button size="small" disabled={none} onClick={scaled} title="Times of these keys about the current frame">
        × {factor}
      </Button>
      <NumberField label="Factor of time" value={factor} least={0.01} most={100} width={30} onChange={setFactor} />
      <Button size="small" disabled={none} onClick={() => void edit({ what: "delete", keys: all }).then((done) => done && set({ picked: [] }))} title="Delete the keys in hand (Delete)">
        delete
      </Button>
    </Box>
  );
}
