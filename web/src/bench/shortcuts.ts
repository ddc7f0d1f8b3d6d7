import { useEffect } from "react";
import * as THREE from "three";
import { get, type ClipInfo, type CurveInfo, type DragAsked, type KeyEdit } from "../shared/api";
import { useNotice } from "../shared/notice";
import { offer, startPaste, useActions, useOperations } from "./actions";
import { poseNow } from "./Body";
import { named } from "./Curves";
import { ordered } from "./drawStrands";
import { tryRepair } from "./Findings";
import { driverAt, hasSystems, NOTHING, same, strandOf, useBench } from "./state";
import { pinnedWith, viewByKey } from "./Transport";

/** How far an arrow with Alt moves a control: metres, or radians where it turns. */
const STEP = 0.01;
const TURN = Math.PI / 36;

/** A drag of the part in hand by a step across or up the picture, as the keyboard gives it. */
function nudge(across: number, high: number, turning: boolean): DragAsked | null {
  const { info, focus, frame } = useBench.getState();
  const table = poseNow();
  const view = (window as unknown as { benchView?: { camera: THREE.Camera } }).benchView;
  if (!info || !focus || !table || !view) return null;
  const strand = strandOf(info, focus);
  const mine = info.handles.filter((h) => same(h, focus));
  const system = strand ? driverAt(strand, frame) : "";
  // What drives is moved by its first handle; a run of joints by its last one.
  const driving = mine.filter((h) => h.system === system);
  const handle = driving.find((h) => h.gestures.includes("move")) ?? driving[driving.length - 1] ?? mine[0];
  if (!handle) return null;
  const k = handle.row * 7;
  const right = new THREE.Vector3().setFromMatrixColumn(view.camera.matrixWorld, 0);
  const up = new THREE.Vector3().setFromMatrixColumn(view.camera.matrixWorld, 1);
  const place = new THREE.Vector3(table[k], table[k + 1], table[k + 2]);
  const turn = new THREE.Quaternion(table[k + 3], table[k + 4], table[k + 5], table[k + 6]);
  if (turning || !handle.gestures.includes("move")) {
    turn.premultiply(new THREE.Quaternion().setFromAxisAngle(up, across * TURN));
    turn.premultiply(new THREE.Quaternion().setFromAxisAngle(right, -high * TURN));
  } else place.addScaledVector(right, across * STEP).addScaledVector(up, high * STEP);
  return {
    revision: info.revision,
    frame,
    ...focus,
    control: handle.control,
    position: [place.x, place.y, place.z],
    rotation: [turn.x, turn.y, turn.z, turn.w],
  };
}

/** Every command of the bench by keyboard. */
export function useShortcuts() {
  const { apply, drop, step, keyPart, letGo, copy, edit, now } = useActions();
  const operations = useOperations();
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      if (target.closest("input:not([type=checkbox]), textarea, [role=dialog]:not([data-testid=offer]), [role=listbox]")) return;
      const bench = useBench.getState();
      const { info, frame, focus, stretch, picked, set, toFrame } = bench;
      if (!info) return;
      const command = event.ctrlKey || event.metaKey;
      const key = event.key.length === 1 ? event.key.toLowerCase() : event.key;
      const onButton = target.closest("button, a, [role=combobox]") !== null;
      const keyTimes = strandOf(info, focus)?.keys.map((k) => k.time) ?? [];
      const arrows: Record<string, [number, number]> = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] };
      const arrow = arrows[key];

      const neighbour = (by: number) => {
        const rows = ordered(info);
        const at = rows.findIndex((r) => same(r, focus));
        const next = rows[Math.min(Math.max(at + by, 0), rows.length - 1)];
        if (next) set({ focus: { member: next.member, part: next.part } });
      };
      const select = (first: number, last: number) => focus && void offer(operations, info, { parts: stretch?.parts ?? [focus], first: Math.min(first, last), last: Math.max(first, last) }, bench.wish?.operation);
      const nextFinding = () => {
        const next = info.findings.find((f) => f.frame > frame) ?? info.findings[0];
        if (next) tryRepair([next]);
      };
      const pickHere = () => {
        const found = bench.channels.map((channel) => ({ channel, time: frame }));
        const fresh = found.filter((f) => !picked.some((p) => p.channel === f.channel && p.time === f.time));
        set({ picked: fresh.length ? [...picked, ...fresh] : [] });
      };
      const moveKeys = (by: number, rise: number) => {
        const change: KeyEdit = { what: "move", keys: named(picked), by, rise };
        void edit(change).then((done) => done && set({ picked: picked.map((k) => ({ ...k, time: k.time + by })) }));
      };
      const pasteNewest = () =>
        get<ClipInfo[]>("/clips").then(
          (clips) => (clips[0] ? startPaste(operations, clips[0]) : useNotice.getState().say("Nothing is kept yet: Ctrl+C keeps the pose of the part in hand.")),
          (error: Error) => useNotice.getState().warn(error.message),
        );

      // In curves the clipboard holds keys; elsewhere it is the locker.
      const copyKeys = () =>
        get<CurveInfo[]>(`/takes/${info.id}/curves?${[...new Set(picked.map((k) => k.channel))].map((c) => `channel=${encodeURIComponent(c)}`).join("&")}&revision=${info.revision}`).then((curves) => {
          const first = Math.min(...picked.map((k) => k.time));
          const copied = curves.flatMap((c) =>
            c.keys.filter((k) => picked.some((p) => p.channel === c.channel && p.time === k.time)).map((k) => ({ ...k, channel: c.channel, time: k.time - first, lock: 0 })),
          );
          set({ copied });
          useNotice.getState().say(`${copied.length} key${copied.length === 1 ? "" : "s"} copied: Ctrl+V puts them from the current frame on.`);
        });
      const pasteKeys = () => {
        const put = bench.copied.map((k) => ({ ...k, time: k.time + frame }));
        void edit({ what: "put", put }).then((done) => done && set({ picked: put.map(({ channel, time }) => ({ channel, time })) }));
      };
      const commands: Record<string, () => void> = {
        z: () => step(event.shiftKey ? "redo" : "undo"),
        c: () => void (bench.curves && picked.length ? copyKeys() : copy()),
        v: () => void (bench.curves && bench.copied.length ? pasteKeys() : pasteNewest()),
      };
      const plain: Record<string, () => void> = {
        ArrowLeft: () => toFrame(event.shiftKey ? (keyTimes.filter((t) => t < frame).pop() ?? info.first) : frame - 1),
        ArrowRight: () => toFrame(event.shiftKey ? (keyTimes.find((t) => t > frame) ?? info.last) : frame + 1),
        ArrowUp: () => neighbour(-1),
        ArrowDown: () => neighbour(1),
        Home: () => toFrame(info.first),
        End: () => toFrame(info.last),
        Escape: drop,
        // A stretch that is a plank's is that plank in hand; keys are deleted where curves lie open.
        Delete: () => {
          const plank = stretch?.parts.some((p) => strandOf(info, p)?.contacts.some((c) => c.first === stretch.first && c.last === stretch.last));
          if (stretch && plank && !picked.length) void now({ operation: "contacts", ...stretch }, { do: "remove" }).then((done) => done && set(NOTHING));
          else if (picked.length) void edit({ what: "delete", keys: named(picked) }).then((done) => done && set({ picked: [] }));
        },
        n: nextFinding,
        r: () => event.shiftKey && tryRepair(info.findings),
        h: () => focus && hasSystems(info, focus) && void offer(operations, info, { parts: [focus], first: frame, last: info.last }, "handover"),
        "[": () => select(frame, stretch?.last ?? info.last),
        "]": () => select(stretch?.first ?? info.first, frame),
        k: keyPart,
        d: () => set({ wish: { operation: "drivers", parts: [], first: info.first, last: null }, choices: { kind: "stepped" }, stretch: null, trial: null }),
        b: () => set({ body: !bench.body }),
        c: () => set({ controls: !bench.controls }),
        j: () => set({ bones: !bench.bones }),
        o: () => set({ alone: !bench.alone }),
        g: () => set({ ghosts: !bench.ghosts }),
        y: () => {
          if (!event.shiftKey) set({ trails: !bench.trails });
          else if (focus) set({ trails: true, trailed: bench.trailed.some((p) => same(p, focus)) ? bench.trailed.filter((p) => !same(p, focus)) : [...bench.trailed, focus] });
        },
        s: () => set({ slips: !bench.slips }),
        t: () => set({ turning: !bench.turning }),
        p: () => set({ pinned: pinnedWith(bench.pinned, frame) }),
        w: () => set({ curves: !bench.curves }),
        ".": pickHere,
        v: () => set({ revisionList: true }),
        l: () => set({ locker: true }),
        "?": () => set({ help: true }),
        // Space and Enter belong to a button that has the focus.
        ...(onButton ? {} : { " ": () => set({ playing: !bench.playing, live: null }), Enter: apply }),
      };
      let action = command ? commands[key] : plain[key];
      if (event.altKey && arrow) {
        if (bench.curves && picked.length) action = () => moveKeys(arrow[0], arrow[1] * (event.shiftKey ? 0.1 : 0.01));
        else
          action = () => {
            const drag = nudge(arrow[0], arrow[1], event.shiftKey || bench.turning);
            const strand = strandOf(info, focus);
            if (drag && strand && driverAt(strand, frame) !== "both") void letGo(drag);
          };
      }
      const view = viewByKey[key];
      action ??= view && !command ? () => set({ viewpoint: view }) : undefined;
      if (!action) return;
      event.preventDefault();
      action();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [apply, drop, step, keyPart, letGo, copy, edit, now, operations]);
}
