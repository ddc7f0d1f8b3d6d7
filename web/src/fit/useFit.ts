import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import { PoseBank } from "../bench/poses";
import { NOTHING, useBench } from "../bench/state";
import { post, type FitInfo, type LimbSaid } from "../shared/api";
import { useNotice } from "../shared/notice";

/** What is changed of a body and not written yet. */
export interface Changes {
  settings: Record<string, Record<string, number>>;
  limbs: LimbSaid[] | null;
}
export const NO_CHANGES: Changes = { settings: {}, limbs: null };

/** Milliseconds without another change after which it is tried. */
const REST = 120;

/** A body being fitted: what the service says of it with the changes in hand, tried as they are made, and shown in motion. */
export function useFit(sceneId: number, member: string, first: string) {
  const [info, setInfo] = useState<FitInfo | null>(null);
  const [changes, setChanges] = useState(NO_CHANGES);
  const [part, setPart] = useState(first);
  const [refused, setRefused] = useState("");
  const [applying, setApplying] = useState(false);
  const asking = useRef<AbortController | null>(null);
  const client = useQueryClient();
  const path = `/scenes/${sceneId}/characters/${encodeURIComponent(member)}/fit`;

  const ask = useCallback(
    async (body: Changes & { part: string; apply?: boolean }) => {
      asking.current?.abort();
      const mine = (asking.current = new AbortController());
      try {
        const found = await post<FitInfo>(path, body, {}, mine.signal);
        setRefused("");
        setInfo(found);
        return found;
      } catch (error) {
        if (!mine.signal.aborted) setRefused((error as Error).message);
        return null;
      }
    },
    [path],
  );

  useEffect(() => {
    // What is being written is not given up for a try.
    if (applying) return;
    const soon = setTimeout(() => void ask({ ...changes, part }), REST);
    return () => clearTimeout(soon);
  }, [ask, changes, part, applying]);

  /** The figure of a setting of the part in hand that was pointed at on its body, or null where it can't be that. */
  const point = async (setting: string, at: [number, number, number], frame: number) => {
    try {
      return (await post<FitInfo>(path, { ...changes, part, pointed: { setting, at, frame } })).pointed;
    } catch (error) {
      useNotice.getState().say((error as Error).message);
      return null;
    }
  };
  const apply = async () => {
    setApplying(true);
    const done = await ask({ ...changes, part, apply: true });
    // What was changed meanwhile is still in hand.
    if (done) setChanges((c) => (c === changes ? NO_CHANGES : c));
    setApplying(false);
    if (!done) return;
    // Whatever was kept of its takes is of the body as it was.
    client.clear();
    useNotice.getState().say(`${done.name} is fitted anew.`);
  };
  const set = (of: string, id: string, value: number) => setChanges((c) => ({ ...c, settings: { ...c.settings, [of]: { ...c.settings[of], [id]: value } } }));
  return { info, changes, part, refused, applying, setPart, set, setLimbs: (limbs: LimbSaid[] | null) => setChanges((c) => ({ ...c, limbs })), reset: () => setChanges(NO_CHANGES), apply, point };
}

/** Lays what shows the motion of a part out for the view, and plays it. */
export function useShown(info: FitInfo | null, part: string) {
  useEffect(() => {
    const { set, frame, info: was } = useBench.getState();
    if (!info?.show || !info.trial) return;
    const { show, trial } = info;
    // The same part goes on where it was: what is dragged is seen to change.
    const same = was?.name === show.name;
    set({
      ...NOTHING, info: show, bank: new PoseBank(show.id, show.first, show.last), lookedAt: trial, controls: false, ghosts: false, slips: false, pinned: [], live: null, loop: null,
      focus: { member: info.member, part }, ...(was?.id === show.id ? {} : { viewpoint: { name: "free", again: Date.now() } }), frame: same ? frame : show.first, playing: same ? useBench.getState().playing : true,
    });
  }, [info, part]);
  useEffect(() => {
    const { controls, ghosts, slips, set } = useBench.getState();
    return () => set({ controls, ghosts, slips, info: null, bank: null, lookedAt: null, playing: false, focus: null });
  }, []);
}
