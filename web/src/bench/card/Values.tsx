import { Box } from "@mui/material";
import { memo } from "react";
import type { Card, KeyEdit } from "../../shared/api";
import { follow } from "../../shared/drag";
import { channelValue, shownNumber, storedNumber } from "../../shared/format";
import { useActions } from "../actions";
import { NumberField } from "../NumberField";
import { NOTHING, useBench, usePick } from "../state";
import { alike, dragStep } from "./channels";

export type Channel = Card["systems"][number]["channels"][number];

const UNITS: Record<string, string> = { rad: "°", m: "mm" };

/** Channel values, by control: each can be typed, dragged, keyed or freed of its key, put back, and laid out as a curve. */
export const Values = memo(function Values({ channels, title, fits }: { channels: Channel[]; title: string; fits?: boolean }) {
  const groups = [...new Set(channels.map((c) => c.group))];
  const { channels: laid, set } = usePick("channels", "set");
  // What reads as at rest and has no key here has nothing to show.
  const telling = channels.filter((c) => c.keyed || c.own !== c.standard).map((c) => c.name);
  const whole = telling.length > 0 && telling.every((n) => laid.includes(n));
  const layAll = () => {
    const next = whole ? laid.filter((n) => !telling.includes(n)) : [...new Set([...laid, ...telling])];
    set({ channels: next, curves: next.length > 0 });
  };
  return (
    <Box component="table" sx={{ width: "100%", borderCollapse: "collapse", fontSize: 12.5, lineHeight: 1.15, "& td": { py: 0 }, "& th": { textAlign: "left", fontWeight: 600, pt: 0.25, color: "text.secondary" }, "& input": { height: 16 }, "& input[type=checkbox]": { width: 13, height: 13, m: 0, verticalAlign: "middle", accentColor: (theme) => theme.ink.accent }, "& input:hover": { textDecoration: "underline dotted" }, "& button": { p: 0, width: 16, border: 0, background: "none", font: "inherit", fontSize: 12, color: "text.secondary", cursor: "pointer" }, "& button.keyed": { color: "primary.main" }, "& .back": { visibility: "hidden" }, "& tr:hover .back, & .back:focus-visible": { visibility: "visible" } }}>
      {title && (
        <caption style={{ textAlign: "left", fontWeight: 650, captionSide: "top", padding: "2px 0" }}>
          {title}
          {!fits && <input type="checkbox" checked={whole} disabled={!telling.length} onChange={layAll} style={{ float: "right", margin: "1px 1px 0" }} title="Lay out all of these as curves that read other than at rest" aria-label={`Curves of ${title}`} />}
        </caption>
      )}
      {groups.map((group) => (
        <tbody key={group}>
          {group !== "" && groups.length > 1 && (
            <tr>
              <th colSpan={4}>{group}</th>
            </tr>
          )}
          {channels
            .filter((c) => c.group === group)
            .map((c) => (
              <Value key={c.name} channel={c} word={groups.length > 1 || c.group === "" ? c.short : c.label} fits={fits ?? false} />
            ))}
        </tbody>
      ))}
    </Box>
  );
});

/** One value; drawn anew only where it is another. */
const Value = memo(function Value({ channel: c, word, fits }: { channel: Channel; word: string; fits: boolean }) {
  const { channels: laid, set } = usePick("channels", "set");
  // Read when something is done: a playing frame draws no value anew.
  const here = () => useBench.getState().frame;
  const { edit } = useActions();
  const lay = () => {
    const next = laid.includes(c.name) ? laid.filter((n) => n !== c.name) : [...laid, c.name];
    set({ channels: next, curves: next.length > 0 });
  };
  // What is in hand with it gets the same value.
  const change = (value: number): KeyEdit => ({ what: "add", keys: alike(c.name, useBench.getState().inHand).map((channel) => ({ channel, times: [here()] })), values: { arriving: value, leaving: value } });
  const give = (value: number) => void edit(change(value));
  const toggle = () => void edit({ what: c.keyed ? "delete" : "add", keys: [{ channel: c.name, times: [here()] }] });
  const drag = (event: React.PointerEvent) => {
    if (event.button !== 0 || c.locked || c.kind === "sign") return;
    event.preventDefault();
    let value = c.own;
    follow(
      (e) => {
        const wanted = c.own + (e.clientX - event.clientX) * dragStep(c.unit, e.shiftKey);
        value = Math.min(Math.max(wanted, c.least ?? -Infinity), c.most ?? Infinity);
        set({ wish: { operation: "edit", parts: [], first: here(), last: null, edit: change(value) }, choices: {}, stretch: null });
      },
      () => {
        set(NOTHING);
        if (value !== c.own) give(value);
      },
    );
  };
  // On a layer nothing is nothing.
  const rest = useBench((b) => b.layer) ? 0 : c.standard;
  return (
    <tr title={c.made_of || undefined}>
      <td style={{ width: 18 }}>
        <button className={c.keyed ? "keyed" : undefined} onClick={toggle} aria-label={`${c.keyed ? "Delete the key" : "Put a key"} of ${c.label} at this frame`} title={c.keyed ? "keyed at this frame" : "no key at this frame"}>
          {c.keyed ? "●" : "○"}
        </button>
      </td>
      <td onPointerDown={fits ? undefined : drag} style={{ cursor: fits || c.kind === "sign" ? undefined : "ew-resize", touchAction: "none", userSelect: "none" }} title={fits ? undefined : "Drag to change it; with Shift finely"}>
        {word}
        {c.made_of && <span aria-label={c.made_of}> ≋</span>}
      </td>
      <td style={{ textAlign: "right", whiteSpace: "nowrap" }}>
        {fits ? (
          channelValue(c.value, c.unit)
        ) : (
          <>
            {c.own !== rest && !c.locked && (
              <button className="back" onClick={() => give(rest)} aria-label={`Put ${c.label} back`} title="Back to its value at rest">
                ↺
              </button>
            )}
            <NumberField late width={60} label={`${c.label} at this frame`} least={c.least === null ? undefined : shownNumber(c.least, c.unit)} most={c.most === null ? undefined : shownNumber(c.most, c.unit)} value={shownNumber(c.own, c.unit)} onChange={(v) => give(storedNumber(v, c.unit))} />
            <span style={{ display: "inline-block", width: 22, textAlign: "left", paddingLeft: 2 }}>{UNITS[c.unit] ?? ""}</span>
          </>
        )}
      </td>
      <td style={{ textAlign: "right", width: 20 }}>
        {fits ? (
          <span style={{ color: "inherit" }}>{channelValue(c.fits, c.unit)}</span>
        ) : (
          <input type="checkbox" checked={laid.includes(c.name)} onChange={lay} title="Lay out as a curve" aria-label={`Curve of ${c.label}`} />
        )}
      </td>
    </tr>
  );
});
