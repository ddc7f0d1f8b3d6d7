import { useTheme } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useFrame } from "@react-three/fiber";
import { useEffect, useMemo } from "react";
import * as THREE from "three";
import { get, type Contact, type TakeInfo } from "../shared/api";
import { poseAt } from "./Body";
import { same, usePick, type PartRef } from "./state";

/** Most frames a trail shows on either side of the current one. */
const REACH = 48;

function lines(color: string, opacity: number, count: number) {
  const geometry = new THREE.BufferGeometry().setAttribute("position", new THREE.BufferAttribute(new Float32Array(count * 3), 3));
  const made = new THREE.LineSegments(geometry, new THREE.LineBasicMaterial({ color, transparent: true, opacity, depthTest: false }));
  made.frustumCulled = false;
  made.renderOrder = 4;
  made.raycast = () => undefined;
  return made;
}

/** The trails of the part in hand and of those that were chosen to stay. */
export function Trails({ info }: { info: TakeInfo }) {
  const { focus, trailed } = usePick("focus", "trailed");
  const parts = focus && !trailed.some((p) => same(p, focus)) ? [focus, ...trailed] : trailed;
  return parts.map((p) => <Trail key={`${p.member}/${p.part}`} info={info} focus={p} />);
}

/** The paths of one part's joints about the current frame: a dot a frame, a larger one at keys. */
function Trail({ info, focus }: { info: TakeInfo; focus: PartRef }) {
  const theme = useTheme();
  const { frame } = usePick("frame");
  const strand = info.strands.find((s) => s.member === focus.member && s.part === focus.part);
  const rows = useMemo(() => {
    const part = info.members.find((m) => m.id === focus.member)?.parts.find((p) => p.name === focus.part);
    return (part?.trail ?? []).map((j) => info.joints.findIndex(([m, n]) => m === focus.member && n === j)).filter((r) => r >= 0);
  }, [info, focus]);
  const keyed = useMemo(() => new Set(strand?.keys.map((k) => Math.round(k.time)) ?? []), [strand]);
  const made = useMemo(() => {
    const color = strand?.side === "left" ? theme.ink.left : strand?.side === "right" ? theme.ink.right : theme.ink.accent;
    const path = lines(color, 0.75, rows.length * REACH * 4);
    const ticks = new THREE.Points(
      new THREE.BufferGeometry()
        .setAttribute("position", new THREE.BufferAttribute(new Float32Array(rows.length * (2 * REACH + 1) * 3), 3)),
      new THREE.PointsMaterial({ color, size: 4, sizeAttenuation: false, depthTest: false, transparent: true, opacity: 0.9 }),
    );
    const keys = new THREE.Points(
      new THREE.BufferGeometry().setAttribute("position", new THREE.BufferAttribute(new Float32Array(rows.length * (2 * REACH + 1) * 3), 3)),
      new THREE.PointsMaterial({ color: theme.ink.ink, size: 8, sizeAttenuation: false, depthTest: false, transparent: true }),
    );
    for (const points of [ticks, keys]) {
      points.frustumCulled = false;
      points.renderOrder = 4;
      points.raycast = () => undefined;
    }
    return { path, ticks, keys };
  }, [rows, strand?.side, theme]);
  useEffect(
    () => () => {
      for (const o of Object.values(made)) {
        o.geometry.dispose();
        (o.material as THREE.Material).dispose();
      }
    },
    [made],
  );

  useFrame(() => {
    const path = made.path.geometry.getAttribute("position") as THREE.BufferAttribute;
    const ticks = made.ticks.geometry.getAttribute("position") as THREE.BufferAttribute;
    const keys = made.keys.geometry.getAttribute("position") as THREE.BufferAttribute;
    let [segments, dots, marks] = [0, 0, 0];
    for (const row of rows) {
      let before: Float32Array | null = null;
      for (let f = Math.max(info.first, frame - REACH); f <= Math.min(info.last, frame + REACH); f++) {
        const pose = poseAt(f);
        if (!pose) {
          before = null;
          continue;
        }
        const k = row * 7;
        if (before) {
          path.setXYZ(segments++, before[k]!, before[k + 1]!, before[k + 2]!);
          path.setXYZ(segments++, pose[k]!, pose[k + 1]!, pose[k + 2]!);
        }
        if (keyed.has(f)) keys.setXYZ(marks++, pose[k]!, pose[k + 1]!, pose[k + 2]!);
        else ticks.setXYZ(dots++, pose[k]!, pose[k + 1]!, pose[k + 2]!);
        before = pose;
      }
    }
    made.path.geometry.setDrawRange(0, segments);
    made.ticks.geometry.setDrawRange(0, dots);
    made.keys.geometry.setDrawRange(0, marks);
    path.needsUpdate = ticks.needsUpdate = keys.needsUpdate = true;
  });
  return (
    <>
      <primitive object={made.path} />
      <primitive object={made.ticks} />
      <primitive object={made.keys} />
    </>
  );
}

/** The take's contacts, frame by frame. */
function useContacts(info: TakeInfo) {
  return useQuery({ queryKey: ["contacts", info.id, info.revision], queryFn: () => get<Contact[]>(`/takes/${info.id}/contacts?revision=${info.revision}`), staleTime: Infinity });
}

/** A stroke from where each end in contact should be to where it is, ten times as long as the slip so that it shows. */
export function Slips({ info }: { info: TakeInfo }) {
  const theme = useTheme();
  const { frame } = usePick("frame");
  const contacts = useContacts(info).data;
  const made = useMemo(() => {
    const strokes = lines(theme.ink.alarm, 1, 64);
    const feet = lines(theme.ink.accent, 0.9, 256);
    return { strokes, feet };
  }, [theme]);
  useFrame(() => {
    const strokes = made.strokes.geometry.getAttribute("position") as THREE.BufferAttribute;
    const feet = made.feet.geometry.getAttribute("position") as THREE.BufferAttribute;
    let [s, c] = [0, 0];
    const pose = poseAt(frame);
    for (const contact of contacts ?? []) {
      const should = contact.should[Math.round(frame - contact.frames[0]!)];
      if (!pose || !should || s >= 60) continue;
      const row = info.joints.findIndex(([m, j]) => m === contact.member && j === contact.joint) * 7;
      const off = [0, 1, 2].map((a) => 10 * (pose[row + a]! - should[a]!));
      strokes.setXYZ(s++, should[0], should[1], should[2]);
      strokes.setXYZ(s++, should[0] + off[0]!, should[1] + off[1]!, should[2] + off[2]!);
      // A small cross where the end should be.
      for (const axis of [0, 2])
        for (const sign of [-1, 1]) {
          const at = [...should] as [number, number, number];
          at[axis]! += sign * 0.02;
          feet.setXYZ(c++, at[0], at[1], at[2]);
        }
    }
    made.strokes.geometry.setDrawRange(0, s);
    made.feet.geometry.setDrawRange(0, c);
    strokes.needsUpdate = feet.needsUpdate = true;
  });
  return (
    <>
      <primitive object={made.feet} />
      <primitive object={made.strokes} />
    </>
  );
}
