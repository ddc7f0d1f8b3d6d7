import { create } from "zustand";
import { useShallow } from "zustand/react/shallow";
import type { Strand, TakeInfo, Tried } from "../shared/api";
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

export type Viewpoint = "free" | "front" | "side" | "top" | "floor";

interface BenchState {
  info: TakeInfo | null;
  bank: PoseBank | null;
  frame: number;
  playing: boolean;
  speed: number;
  focus: PartRef | null;
  stretch: Stretch | null;
  operation: string;
  choices: Record<string, string | number>;
  trial: Tried | null;
  trying: boolean;
  /** A pose that is being dragged: drawn instead of the stored one until it is let go. */
  live: Float32Array | null;
  ghosts: boolean;
  controls: boolean;
  bones: boolean;
  turning: boolean;
  viewpoint: Viewpoint;
  shown: [number, number];
  rate: number;
  set: (change: Partial<BenchState>) => void;
  toFrame: (frame: number) => void;
}

/** What is in hand on the bench: the frame, the selection, what is being tried. The server keeps the rest. */
export const useBench = create<BenchState>((set, get) => ({
  info: null,
  bank: null,
  frame: 0,
  playing: false,
  speed: 1,
  focus: null,
  stretch: null,
  operation: "handover",
  choices: {},
  trial: null,
  trying: false,
  live: null,
  ghosts: true,
  controls: true,
  bones: false,
  turning: false,
  viewpoint: "free",
  shown: [0, 1],
  rate: 0,
  set,
  toFrame: (frame) => {
    const { info } = get();
    if (!info) return;
    set({ frame: Math.min(Math.max(Math.round(frame)), info.last), playing: false, live: null });
  },
}));

/** Some fields of the bench: only their changes draw a component anew, so a playing frame leaves most in peace. */
export function usePick<K extends keyof BenchState>(...keys: K[]): Pick<BenchState, K> {
  return useBench(useShallow((s) => Object.fromEntries(keys.map((k) => [k, s[k]])) as Pick<BenchState, K>));
}

export const source = (info: TakeInfo) => `revision-${info.revision}`;
export const trialSource = (trial: Tried) => `trial-${trial.trial}`;

export function strandOf(info: TakeInfo, ref: PartRef | null): Strand | undefined {
  return ref ? info.strands.find((s) => s.member === ref.member && s.part === ref.part) : undefined;
}

/** Value at a whole frame of what the service tells as (frame, value from there on). */
export function valueAt(runs: readonly (readonly [number, number])[], frame: number): number {
  let low = 0;
  let high = runs.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (runs[middle]![0] <= frame) low = middle + 1;
    else high = middle;
  }
  return runs[Math.max(low - 1, 0)]?.[1] ?? 0;
}

/** Which system drives a strand at a frame. */
export function driverAt(strand: Strand, frame: number): "IK" | "FK" | "capture" | "both" {
  if (valueAt(strand.captured, frame) === 1) return "capture";
  const drive = valueAt(strand.drive, frame);
  return drive === 0 ? "FK" : drive === 1 ? "IK" : "both";
}

/** The system a handover of this stretch most likely wants: what takes over at a jump, else the other one. */
export function likelySystem(info: TakeInfo, stretch: Stretch): "ik" | "fk" {
  const strand = strandOf(info, stretch.parts[0] ?? null);
  if (!strand) return "ik";
  const jump = strand.findings.find((f) => f.frame >= stretch.first && f.frame <= stretch.last);
  if (jump) return driverAt(strand, jump.frame) === "FK" ? "fk" : "ik";
  return driverAt(strand, stretch.first) === "IK" ? "fk" : "ik";
}
