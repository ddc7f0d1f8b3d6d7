import { source, useBench } from "../state";

/** The pose now: what is dragged, else the take at the current frame. */
export function poseNow(shift = 0): Float32Array | null {
  const { live, bank, info, frame } = useBench.getState();
  if (!bank || !info) return null;
  if (live && shift === 0) return live;
  const at = frame + shift;
  return at < info.first || at > info.last ? null : bank.at(source(info), at);
}

/** The pose of the revision that is drawn beside this one. */
export function poseBeside(): Float32Array | null {
  const { beside, besideBank, bank, frame } = useBench.getState();
  return beside === null ? null : ((besideBank ?? bank)?.at(`revision-${beside}`, frame) ?? null);
}

/** The pose of one frame of the take in hand. */
export function poseAt(frame: number): Float32Array | null {
  const { bank, info } = useBench.getState();
  return bank && info ? bank.at(source(info), frame) : null;
}

/** The pose of the trial in hand, at the current frame. */
export function poseTried(): Float32Array | null {
  const { trial, bank, frame } = useBench.getState();
  return trial && bank ? bank.at(`trial-${trial.trial}`, frame) : null;
}
