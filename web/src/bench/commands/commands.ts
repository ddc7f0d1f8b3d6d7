import type { KeyEdit, Operation, TakeInfo } from "../../shared/api";
import { keep, kept } from "../../shared/kept";
import { useNotice } from "../../shared/notice";
import { go } from "../../shared/route";
import { searchOf } from "../address";
import { offer, until, type Actions } from "../actions";
import { named } from "../keysInHand";
import { tryRepair } from "../repairs";
import { poseNow } from "../stage/poses";
import { steered, stage } from "../stage/viewpoints";
import { hasSystems, NOTHING, pinnedWith, same, source, strandOf, useBench, type Viewpoint } from "../state";
import { layout, NO_CHOICES, type RowChoices } from "../timeline/rows";
import { fitted } from "../timeline/scale";
import { driverAt } from "../state";
import { copyKeys, pasteKeys, pasteNewest } from "./clipboard";
import { nudge } from "./nudge";

/** What commands work with. */
export interface Tools {
  info: TakeInfo;
  actions: Actions;
  operations: Operation[] | undefined;
}

/** One thing that can be done, however it is asked for: by a key, a button, or from the help. */
export interface Command {
  id: string;
  /** Keys as they are written: modifiers in the order Ctrl, Alt, Shift. */
  keys: string[];
  /** How the help names the keys, where that is not the first of them. */
  shown?: string;
  words: string;
  group: string;
  run: (tools: Tools) => unknown;
}

const bench = () => useBench.getState();
type Toggle = "body" | "light" | "controls" | "bones" | "alone" | "ghosts" | "trails" | "slips" | "holds" | "turning" | "curves";
const flip = (what: Toggle) => () => bench().set({ [what]: !bench()[what] });
const keyTimes = (info: TakeInfo) => strandOf(info, bench().focus)?.keys.map((k) => k.time) ?? [];

/** The part on the row above or below; with none in hand the first. */
function neighbour({ info }: Tools, by: number) {
  const { focus, filter, set } = bench();
  const rows = layout(info, kept<RowChoices>(`rows of scene ${info.scene_id}`, NO_CHOICES), filter, focus).filter((r) => r.strand);
  const at = rows.findIndex((r) => same(r.strand, focus));
  const next = rows[Math.min(Math.max(at + by, 0), rows.length - 1)]?.strand;
  if (next) set({ focus: { member: next.member, part: next.part } });
}

function select({ info, operations }: Tools, first: number, last: number) {
  const { focus, stretch, wish } = bench();
  if (focus) void offer(operations, info, { parts: stretch?.parts ?? [focus], first: Math.min(first, last), last: Math.max(first, last) }, wish?.operation);
}

/** Deletes the plank in hand, or the picked keys. */
function remove({ info, actions }: Tools) {
  const { stretch, picked, set } = bench();
  const plank = stretch?.parts.some((p) => strandOf(info, p)?.contacts.some((c) => c.first === stretch.first && c.last === stretch.last));
  if (stretch && plank && !picked.length) void actions.now({ operation: "contacts", ...stretch }, { do: "remove" }).then((done) => done && set(NOTHING));
  else if (picked.length) void actions.edit({ what: "delete", keys: named(picked) }).then((done) => done && set({ picked: [] }));
}

function fitBody({ info }: Tools) {
  const { focus } = bench();
  const who = info.members.find((m) => m.kind === "character" && (!focus || m.id === focus.member));
  if (who) go(`/scene/${info.scene_id}/fit/${encodeURIComponent(who.id)}${focus?.member === who.id ? `?part=${encodeURIComponent(focus.part)}` : ""}`);
}

function pickHere() {
  const { channels, frame, picked, set } = bench();
  const fresh = channels.map((channel) => ({ channel, time: frame })).filter((f) => !picked.some((p) => p.channel === f.channel && p.time === f.time));
  set({ picked: fresh.length ? [...picked, ...fresh] : [] });
}

/** An arrow with Alt: picked keys go in time or value, else the control in hand goes across or up the picture. */
function arrow({ info, actions }: Tools, across: number, high: number, shift: boolean) {
  const { curves, picked, focus, frame, turning, set } = bench();
  if (curves && picked.length) {
    const change: KeyEdit = { what: "move", keys: named(picked), by: across, rise: high * (shift ? 0.1 : 0.01) };
    void actions.edit(change).then((done) => done && set({ picked: picked.map((k) => ({ ...k, time: k.time + across })) }));
    return;
  }
  const strand = strandOf(info, focus);
  if (!strand || driverAt(strand, frame) === "both") return;
  // One after another, each from where the one before it has put things.
  nudges = nudges.then(async () => {
    await actions.settled();
    const { bank } = bench();
    const table = () => (bench().frame === frame ? poseNow() : (bank?.at(source(bench().info!), frame) ?? null));
    if (bank) await until((look) => bank.onArrival(look), () => table() !== null);
    const drag = nudge(table(), strand, frame, across, high, shift || turning);
    if (drag) await actions.letGo(drag);
  });
}

let nudges: Promise<void> = Promise.resolve();

const look = (name: Viewpoint) => () => bench().set({ viewpoint: { name, again: bench().viewpoint.again + 1 } });
const steer = (how: Parameters<typeof steered>[1]) => () => {
  const here = stage();
  if (here) steered(here, how);
};

function trail() {
  const { focus, trailed, set } = bench();
  if (focus) set({ trails: true, trailed: trailed.some((p) => same(p, focus)) ? trailed.filter((p) => !same(p, focus)) : [...trailed, focus] });
}

/** Time on the ruler: the stretch in hand, then the whole take, and back. */
function toStretch({ info }: Tools) {
  const { stretch, shown, set } = bench();
  const whole = shown[0] <= info.first && shown[1] >= info.last;
  set({ shown: whole && stretch ? fitted(stretch.first, stretch.last, info) : whole ? fitted(bench().frame - 24, bench().frame + 24, info) : [info.first, info.last] });
}

/** The end of the part in hand stays, or goes again; all hands and feet of the body where `all`. */
function stay({ info }: Tools, all: boolean) {
  const { focus, stays, set } = bench();
  const member = info.members.find((m) => m.id === focus?.member);
  const ends = member?.parts.filter((p) => (all ? p.stands : p.end && p.name === focus?.part)).map((p) => ({ member: member.id, part: p.name })) ?? [];
  const there = ends.filter((e) => stays.some((s) => same(s, e)));
  set({ stays: there.length === ends.length ? stays.filter((s) => !ends.some((e) => same(e, s))) : [...stays.filter((s) => !ends.some((e) => same(e, s))), ...ends] });
}

function keepLink() {
  const { frame, focus } = bench();
  const link = location.origin + location.pathname + searchOf({ frame, part: focus });
  const { say, warn } = useNotice.getState();
  // Where the browser keeps us from the clipboard, the address is there to be marked.
  navigator.clipboard.writeText(link).then(() => say(`The address of frame ${frame} is kept: paste it into a message.`), () => warn(`The browser lets nothing be copied: take it from here. ${link}`));
}

export const COMMANDS: Command[] = [
  { id: "play", keys: ["Space"], words: "play, stop", group: "Time", run: () => bench().set({ playing: !bench().playing, live: null }) },
  { id: "back", keys: ["ArrowLeft"], shown: "← →", words: "one frame back, on", group: "Time", run: () => bench().toFrame(bench().frame - 1) },
  { id: "on", keys: ["ArrowRight"], shown: "", words: "", group: "Time", run: () => bench().toFrame(bench().frame + 1) },
  { id: "key before", keys: ["Shift+ArrowLeft"], shown: "Shift ← →", words: "to the key before, after, of the part in hand", group: "Time", run: ({ info }) => bench().toFrame(keyTimes(info).filter((t) => t < bench().frame).pop() ?? info.first) },
  { id: "key after", keys: ["Shift+ArrowRight"], shown: "", words: "", group: "Time", run: ({ info }) => bench().toFrame(keyTimes(info).find((t) => t > bench().frame) ?? info.last) },
  { id: "first", keys: ["Home"], shown: "Home End", words: "first, last frame", group: "Time", run: ({ info }) => bench().toFrame(info.first) },
  { id: "last", keys: ["End"], shown: "", words: "", group: "Time", run: ({ info }) => bench().toFrame(info.last) },
  { id: "flip", keys: ["Q"], words: "flip between the two frames visited last", group: "Time", run: () => bench().left !== null && bench().toFrame(bench().left!) },
  { id: "loop", keys: ["U"], words: "play the stretch in hand round and round; again: the whole take", group: "Time", run: () => bench().set({ loop: bench().loop || !bench().stretch ? null : [bench().stretch!.first, bench().stretch!.last] }) },
  { id: "span", keys: ["E"], words: "the ruler shows the stretch in hand, or what is about the frame; again: the whole take", group: "Time", run: toStretch },
  { id: "above", keys: ["ArrowUp"], shown: "↑ ↓", words: "part above, below", group: "Rows", run: (t) => neighbour(t, -1) },
  { id: "below", keys: ["ArrowDown"], shown: "", words: "", group: "Rows", run: (t) => neighbour(t, 1) },
  { id: "find", keys: ["/"], words: "only rows whose name contains what is typed", group: "Rows", run: () => document.getElementById("row-filter")?.focus() },
  {
    id: "meter", keys: ["M"], words: "fold the meter, unfold it", group: "Rows",
    run: () => {
      keep("meter", !bench().meter);
      bench().set({ meter: !bench().meter });
    },
  },
  { id: "curves", keys: ["W"], words: "curves in place of strands, and back", group: "Rows", run: flip("curves") },
  { id: "next finding", keys: ["N"], words: "next finding, its repair tried", group: "Work", run: ({ info }) => { const next = info.findings.find((f) => f.frame > bench().frame) ?? info.findings[0]; if (next) tryRepair([next]); } },
  { id: "repair all", keys: ["Shift+R"], words: "try the repairs of all findings", group: "Work", run: ({ info }) => tryRepair(info.findings) },
  { id: "hand over", keys: ["H"], words: "hand over the part in hand from this frame on", group: "Work", run: ({ info, operations }) => { const { focus, frame } = bench(); if (focus && hasSystems(info, focus)) void offer(operations, info, { parts: [focus], first: frame, last: info.last }, "handover"); } },
  { id: "begin", keys: ["["], shown: "[ ]", words: "stretch begins, ends at this frame", group: "Work", run: (t) => select(t, bench().frame, bench().stretch?.last ?? t.info.last) },
  { id: "end", keys: ["]"], shown: "", words: "", group: "Work", run: (t) => select(t, bench().stretch?.first ?? t.info.first, bench().frame) },
  { id: "apply", keys: ["Enter"], words: "apply what is tried", group: "Work", run: ({ actions }) => actions.apply() },
  { id: "drop", keys: ["Escape"], shown: "Esc", words: "drop what is tried, or a drag", group: "Work", run: ({ actions }) => actions.drop() },
  { id: "undo", keys: ["Ctrl+Z"], shown: "Ctrl+Z", words: "undo; with Shift redo", group: "Work", run: ({ actions }) => actions.step("undo") },
  { id: "redo", keys: ["Ctrl+Shift+Z"], shown: "", words: "", group: "Work", run: ({ actions }) => actions.step("redo") },
  { id: "system changes", keys: ["D"], words: "all system changes stepped", group: "Work", run: ({ info }) => bench().set({ wish: { operation: "drivers", parts: [], first: info.first, last: null }, choices: { kind: "stepped" }, stretch: null, trial: null }) },
  { id: "key", keys: ["K"], words: "key the whole part, or a pose that waits", group: "Pose", run: ({ actions }) => actions.keyPart() },
  ...([["Left", -1, 0], ["Right", 1, 0], ["Up", 0, 1], ["Down", 0, -1]] as const).flatMap(([name, across, high], k): Command[] => [
    { id: `nudge ${name}`, keys: [`Alt+Arrow${name}`], shown: k ? "" : "Alt arrows", words: k ? "" : "move the part in hand 10 mm in the picture; with Shift turn it 5°. In curves: move the picked keys", group: "Pose", run: (t) => arrow(t, across, high, false) },
    { id: `nudge more ${name}`, keys: [`Alt+Shift+Arrow${name}`], shown: "", words: "", group: "Pose", run: (t) => arrow(t, across, high, true) },
    { id: `orbit ${name}`, keys: [`Ctrl+Arrow${name}`], shown: k ? "" : "Ctrl arrows", words: k ? "" : "turn the view; with Shift shift it", group: "View", run: steer({ turn: [across * 0.12, high * 0.12] }) },
    { id: `pan ${name}`, keys: [`Ctrl+Shift+Arrow${name}`], shown: "", words: "", group: "View", run: steer({ shift: [across * 0.06, high * 0.06] }) },
  ]),
  { id: "turning", keys: ["T"], words: "dragging turns instead of moves", group: "Pose", run: flip("turning") },
  { id: "stay", keys: ["A"], words: "the hand or foot in hand stays where it is while others are dragged; with Shift all of the body", group: "Pose", run: (t) => stay(t, false) },
  { id: "all stay", keys: ["Shift+A"], shown: "", words: "", group: "Pose", run: (t) => stay(t, true) },
  { id: "in hand", keys: [], shown: "Shift click", words: "on a control: one more in hand, dragged and turned together", group: "Pose", run: () => undefined },
  { id: "copy", keys: ["Ctrl+C"], shown: "Ctrl+C, Ctrl+V", words: "keep this pose or stretch, paste the newest; in curves the picked keys", group: "Keys", run: ({ actions }) => (bench().curves && bench().picked.length ? copyKeys() : actions.copy()) },
  { id: "paste", keys: ["Ctrl+V"], shown: "", words: "", group: "Keys", run: ({ actions, operations }) => (bench().curves && bench().copied.length ? pasteKeys(actions.edit) : pasteNewest(operations)) },
  { id: "pick", keys: ["."], words: "in curves: pick the keys at this frame", group: "Keys", run: pickHere },
  { id: "delete", keys: ["Delete"], words: "delete the picked keys, or the plank in hand", group: "Keys", run: remove },
  { id: "revisions", keys: ["V"], shown: "L, V", words: "locker of clips, list of revisions", group: "Keys", run: () => bench().set({ revisionList: true }) },
  { id: "link", keys: ["Shift+V"], words: "keep the address of this frame and part, to be sent as a link", group: "Keys", run: keepLink },
  { id: "locker", keys: ["L"], shown: "", words: "", group: "Keys", run: () => bench().set({ locker: true }) },
  ...(["free", "front", "side", "top", "floor"] as const).map((name, k): Command => ({ id: `view ${name}`, keys: [String(k + 1)], shown: k ? "" : "1 2 3 4 5", words: k ? "" : "three-quarter, front, side, top, floor-level view", group: "View", run: look(name) })),
  { id: "frame part", keys: ["I"], words: "the part in hand fills the view; with Shift all of the cast", group: "View", run: () => bench().set({ framing: { what: bench().focus ? "part" : "body" } }) },
  { id: "frame all", keys: ["Shift+I"], shown: "", words: "", group: "View", run: () => bench().set({ framing: { what: "all" } }) },
  { id: "frame body", keys: ["6"], words: "the whole body, from where the camera is", group: "View", run: () => bench().set({ framing: { what: "body" } }) },
  {
    id: "go with", keys: ["X"], words: "the camera goes with the body, or stands", group: "View",
    run: () => {
      const goesWith = bench().goesWith ? "" : "body";
      keep("camera goes with", goesWith);
      bench().set({ goesWith });
    },
  },
  { id: "nearer", keys: ["+", "="], shown: "+ −", words: "nearer, further", group: "View", run: steer({ zoom: 0.88 }) },
  { id: "further", keys: ["-"], shown: "", words: "", group: "View", run: steer({ zoom: 1.14 }) },
  { id: "body", keys: ["B"], shown: "B C J O", words: "body, controls, joints, the part alone", group: "View", run: flip("body") },
  { id: "light", keys: ["Z"], words: "bodies in stiff pieces, quicker to draw", group: "View", run: flip("light") },
  { id: "controls", keys: ["C"], shown: "", words: "", group: "View", run: flip("controls") },
  { id: "bones", keys: ["J"], shown: "", words: "", group: "View", run: flip("bones") },
  { id: "alone", keys: ["O"], shown: "", words: "", group: "View", run: flip("alone") },
  { id: "ghosts", keys: ["G"], shown: "G Y S P", words: "ghosts, trails, slip strokes, pin this frame", group: "View", run: flip("ghosts") },
  { id: "trails", keys: ["Y"], shown: "", words: "", group: "View", run: flip("trails") },
  { id: "slips", keys: ["S"], shown: "", words: "", group: "View", run: flip("slips") },
  { id: "holds", keys: ["F"], words: "who holds on to what", group: "View", run: flip("holds") },
  { id: "pin", keys: ["P"], shown: "", words: "", group: "View", run: () => bench().set({ pinned: pinnedWith(bench().pinned, bench().frame) }) },
  { id: "trail stays", keys: ["Shift+Y"], words: "the trail of the part in hand stays, or goes", group: "View", run: trail },
  { id: "layers", keys: ["Shift+L"], words: "layers of motion: made, muted, weighted, merged", group: "View", run: () => bench().set({ layers: !bench().layers }) },
  { id: "fit", keys: ["Shift+F"], words: "fit the body in hand: its limbs, shares and set angles", group: "View", run: fitBody },
  { id: "help", keys: ["?"], words: "this list", group: "View", run: () => bench().set({ help: true }) },
];

const byKey = new Map(COMMANDS.flatMap((c) => c.keys.map((k) => [k, c] as const)));

/** The command of a key, as an event tells it. */
export function commandOf(event: Pick<KeyboardEvent, "key" | "ctrlKey" | "metaKey" | "altKey" | "shiftKey">): Command | undefined {
  const letter = event.key.length === 1;
  const key = event.key === " " ? "Space" : letter ? event.key.toUpperCase() : event.key;
  // Of signs the keyboard says already whether Shift was needed.
  const shift = event.shiftKey && (!letter || /[A-Z]/.test(key));
  const name = [event.ctrlKey || event.metaKey ? "Ctrl" : "", event.altKey ? "Alt" : "", shift ? "Shift" : "", key].filter(Boolean).join("+");
  return byKey.get(name);
}
