import { create } from "zustand";
import { useShallow } from "zustand/react/shallow";
import type { DragAsked, Job, KeyEdit, KeyPut, Strand, TakeInfo, Tried } from "../shared/api";
import { keep, kept } from "../shared/kept";
import type { PoseBank } from "./poses";

export interface PartRef {
  member: string;
  part: string;
}

export interface Stretch {
  parts: PartRef[];
  first: number;
  last: number;
}

/** What an operation is asked for beside its choices: findings to repair, keys to edit, a clip to paste. */
export interface Wish {
  operation: string;
  parts: PartRef[];
  first: number;
  last: number | null;
  findings?: string[];
  edit?: KeyEdit;
  clip?: number;
}

export interface KeyRef {
  channel: string;
  time: number;
}

export type Viewpoint = "free" | "front" | "side" | "top" | "floor";
/** Where the camera is asked to stand: `again` tells one asking from the next; `kept`: a place that the animator kept. */
export interface Viewed {
  name: Viewpoint;
  again: number;
  kept?: { position: [number, number, number]; target: [number, number, number] };
  /** The camera of the cast that is looked through. */
  through?: string;
}
/** A control in hand. */
export interface HandleRef extends PartRef {
  control: string;
}
/** What letting go of a drag keys: what was dragged, the whole part, or nothing until it is keyed by hand. */
export type KeyRule = "dragged" | "part" | "ask";

interface BenchState {
  info: TakeInfo | null;
  bank: PoseBank | null;
  frame: number;
  playing: boolean;
  speed: number;
  focus: PartRef | null;
  stretch: Stretch | null;
  /** What is being tried; the stretch is where it shows on the strands. */
  wish: Wish | null;
  choices: Record<string, string | number>;
  /** Those of them that were made by hand: what is suggested beside them goes with them. */
  made: Record<string, string | number>;
  /** Options that the parts in hand have, for choices where they differ from part to part. */
  options: Record<string, [string, string][]>;
  trial: Tried | null;
  trying: boolean;
  /** How far the work on it is, where a worker does it. */
  job: Job | null;
  /** Enter came before the trial did: it is applied when it is there. */
  eager: boolean;
  /** A pose that is being dragged: drawn instead of the stored one until it is let go. */
  live: Float32Array | null;
  /** A drag that was let go and is not keyed yet. */
  held: DragAsked | null;
  keyRule: KeyRule;
  ghosts: boolean;
  /** Frames whose poses stay drawn, and a revision drawn beside the one in hand. */
  pinned: number[];
  beside: number | null;
  /** Poses of the take whose revision is drawn beside, where that is another one. */
  besideBank: PoseBank | null;
  /** The trial whose poses are drawn where what is shown is no revision. */
  lookedAt: string | null;
  body: boolean;
  /** Bodies in stiff pieces in place of their skins: quicker to draw. */
  light: boolean;
  controls: boolean;
  bones: boolean;
  trails: boolean;
  /** Parts whose trails stay drawn, beside that of the part in hand. */
  trailed: PartRef[];
  slips: boolean;
  /** Who holds on to what is told beside the picture. */
  holds: boolean;
  /** The layers of the take are told beside the picture. */
  layers: boolean;
  /** The layer that poses and keys go to; none: the base. */
  layer: string;
  /** Only this part is drawn in full. */
  alone: boolean;
  turning: boolean;
  /** The point that its control is turned about, in place of its own place. */
  about: HandleRef | null;
  viewpoint: Viewed;
  /** What the camera is asked to bring into the picture from where it stands; a part from one of its joints on, a body with more
   * of the cast. */
  framing: { what: "part" | "body" | "all"; from?: string; more?: string[] } | null;
  /** What the camera goes with: nothing, the body, or a joint as "member/joint". */
  goesWith: string;
  /** Controls in hand beside the one that is dragged. */
  inHand: HandleRef[];
  /** Parts whose hands or feet stay where they are while others are dragged. */
  stays: PartRef[];
  shown: [number, number];
  /** Frames between which playing goes round, or the whole take. */
  loop: [number, number] | null;
  /** The frame that was left last: one key goes back to it. */
  left: number | null;
  /** Words that the names of rows must contain; whether the meter lies open. */
  filter: string;
  meter: boolean;
  rate: number;
  /** Curves stand in place of the strands, for these channels. */
  curves: boolean;
  channels: string[];
  picked: KeyRef[];
  /** Keys that were copied, with their frames from the first of them. */
  copied: KeyPut[];
  /** Dialogs that a key opens too. */
  revisionList: boolean;
  locker: boolean;
  help: boolean;
  deliver: boolean;
  set: (change: Partial<BenchState>) => void;
  toFrame: (frame: number) => void;
}

/** What the view shows and how drags are keyed: there again at the next visit. */
const SHOWN = ["body", "light", "controls", "bones", "ghosts", "trails", "slips", "holds", "keyRule"] as const;
type Shown = Pick<BenchState, (typeof SHOWN)[number]>;

/** What is in hand on the bench: the frame, the selection, what is being tried. The server keeps the rest. */
export const useBench = create<BenchState>((set, get) => ({
  info: null,
  bank: null,
  frame: 0,
  playing: false,
  speed: 1,
  focus: null,
  stretch: null,
  wish: null,
  choices: {},
  made: {},
  options: {},
  trial: null,
  trying: false,
  job: null,
  eager: false,
  live: null,
  held: null,
  keyRule: "dragged",
  ghosts: true,
  pinned: [],
  beside: null,
  besideBank: null,
  lookedAt: null,
  body: true,
  light: false,
  controls: true,
  bones: false,
  trails: false,
  trailed: [],
  slips: true,
  holds: false,
  layers: false,
  layer: "",
  alone: false,
  turning: false,
  about: null,
  viewpoint: { name: "free", again: 0 },
  framing: null,
  goesWith: kept("camera goes with", "body"),
  inHand: [],
  stays: [],
  shown: [0, 1],
  loop: null,
  left: null,
  filter: "",
  meter: kept("meter", true),
  rate: 0,
  curves: false,
  channels: [],
  picked: [],
  copied: [],
  revisionList: false,
  locker: false,
  help: false,
  deliver: false,
  set,
  toFrame: (frame) => {
    const { info, frame: from, left } = get();
    if (!info) return;
    const to = Math.min(Math.max(Math.round(frame), info.first), info.last);
    set({ frame: to, left: to === from ? left : from, playing: false, live: null, held: null });
  },
}));

useBench.setState(kept<Partial<Shown>>("shown in the view", {}));
useBench.subscribe((now, before) => {
  // Compare and fitting show things their own way for as long as they are open.
  if (SHOWN.some((k) => now[k] !== before[k]) && !/\/(compare|fit)\//.test(location.pathname)) keep("shown in the view", Object.fromEntries(SHOWN.map((k) => [k, now[k]])));
});

/** Nothing is selected and nothing is tried. */
export const NOTHING = { stretch: null, wish: null, trial: null, choices: {}, made: {}, options: {} };

/** Some fields of the bench: only their changes draw a component anew, so a playing frame leaves most in peace. */
export function usePick<K extends keyof BenchState>(...keys: K[]): Pick<BenchState, K> {
  return useBench(useShallow((s) => Object.fromEntries(keys.map((k) => [k, s[k]])) as Pick<BenchState, K>));
}

/** Where poses come from: a revision of a take, or a take that is only looked at. */
export const source = (info: TakeInfo) => (useBench.getState().lookedAt ? `trial-${useBench.getState().lookedAt}` : `revision-${info.revision}`);

export const same = (a: PartRef | null, b: PartRef | null) => a?.member === b?.member && a?.part === b?.part;

export function strandOf(info: TakeInfo, ref: PartRef | null): Strand | undefined {
  return ref ? info.strands.find((s) => same(s, ref)) : undefined;
}

/** Whether more than one system can drive a part. */
export const hasSystems = (info: TakeInfo, ref: PartRef) => (strandOf(info, ref)?.systems.length ?? 0) > 1;

/** Value at a whole frame of what the service tells as (frame, value from there on). */
export function valueAt<T>(runs: readonly (readonly [number, T])[], frame: number): T | undefined {
  let low = 0;
  let high = runs.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (runs[middle]![0] <= frame) low = middle + 1;
    else high = middle;
  }
  return runs[Math.max(low - 1, 0)]?.[1];
}

/** State of a part in which two systems are mixed. */
export const BOTH = "both";

/** Which system drives a strand at a frame, or that two are mixed. */
export const driverAt = (strand: Strand, frame: number): string => valueAt(strand.states, frame) ?? BOTH;

/** A system of a strand as the animator reads it. */
export const systemLabel = (strand: Strand, system: string) => strand.systems.find((s) => s.name === system)?.label ?? system;

/** The pinned frames with this one put in or taken out. */
export const pinnedWith = (pinned: number[], frame: number) => (pinned.includes(frame) ? pinned.filter((f) => f !== frame) : [...pinned, frame].slice(-6));

/** Whether two references mean one control. */
export const sameHandle = (a: HandleRef, b: HandleRef) => same(a, b) && a.control === b.control;
