import { useTheme } from "@mui/material";
import { useFrame, useThree } from "@react-three/fiber";
import { useEffect, useMemo } from "react";
import * as THREE from "three";
import { Line2 } from "three/examples/jsm/lines/Line2.js";
import { LineGeometry } from "three/examples/jsm/lines/LineGeometry.js";
import { LineMaterial } from "three/examples/jsm/lines/LineMaterial.js";
import type { TakeInfo } from "../../shared/api";
import { same, useBench, usePick, type PartRef } from "../state";
import { placed } from "./geometry";
import { poseAt, poseNow } from "./poses";
import { useFreed } from "./useFreed";
import { rowOf } from "./viewpoints";

/** Most frames a trail shows on either side of the current one. */
const REACH = 48;
/** How much of a trail is seen where it lies behind something. */
const BEHIND = 0.22;

/** A round dot, so that ticks are no squares. */
const dot = (() => {
  const size = 32;
  const data = new Uint8Array(size * size * 4);
  for (let y = 0; y < size; y++)
    for (let x = 0; x < size; x++) {
      const r = Math.hypot(x - size / 2 + 0.5, y - size / 2 + 0.5) / (size / 2);
      data.set([255, 255, 255, Math.round(255 * Math.min(Math.max((1 - r) * 6, 0), 1))], (y * size + x) * 4);
    }
  const texture = new THREE.DataTexture(data, size, size);
  texture.needsUpdate = true;
  return texture;
})();

/** The trails of the part in hand and of those that were chosen to stay. */
export function Trails({ info }: { info: TakeInfo }) {
  const { focus, trailed } = usePick("focus", "trailed");
  const parts = focus && !trailed.some((p) => same(p, focus)) ? [focus, ...trailed] : trailed;
  const ends = parts.flatMap((p) => (info.members.find((m) => m.id === p.member)?.parts.find((q) => q.name === p.part)?.trail ?? []).map((joint) => ({ part: p, joint })));
  return ends.map(({ part, joint }) => <Trail key={`${part.member}/${joint}`} info={info} part={part} row={rowOf(info, part.member, joint)} />);
}

/** A line of at most so many points, drawn twice: in full where it is seen, faint where it lies behind something. */
export function strokes(color: string, most: number) {
  const geometry = new LineGeometry().setPositions(new Float32Array(3 * Math.max(2, most)));
  const made = [true, false].map((seen) => {
    const material = new LineMaterial({ color, linewidth: 2.4, transparent: true, opacity: seen ? 0.95 : BEHIND, depthTest: seen, depthWrite: false });
    const line = new Line2(geometry, material);
    line.frustumCulled = false;
    line.renderOrder = 4;
    line.raycast = () => undefined;
    return line;
  });
  return { geometry, lines: made };
}

/** Lays a line along points (x, y, z, …): into the place that it has, since each new one would be kept by the picture. */
export function lay(geometry: LineGeometry, path: readonly number[]) {
  const { data } = geometry.getAttribute("instanceStart") as THREE.InterleavedBufferAttribute;
  const segments = Math.max(0, path.length / 3 - 1);
  for (let n = 0; n < segments; n++) data.array.set(path.slice(3 * n, 3 * n + 6), 6 * n);
  data.needsUpdate = true;
  geometry.instanceCount = segments;
}

/** Round dots, drawn twice likewise. */
export function dots(color: string, size: number, most: number) {
  const geometry = new THREE.BufferGeometry().setAttribute("position", new THREE.BufferAttribute(new Float32Array(most * 3), 3));
  const made = [true, false].map((seen) => {
    const points = new THREE.Points(geometry, new THREE.PointsMaterial({ color, size, map: dot, sizeAttenuation: false, transparent: true, opacity: seen ? 1 : BEHIND, depthTest: seen, depthWrite: false }));
    points.frustumCulled = false;
    points.renderOrder = 5;
    points.raycast = () => undefined;
    return points;
  });
  return { geometry, points: made };
}

/** The path of one joint about the current frame: one line, a tick a frame, larger ones at keys. Where the camera goes with
 * something other than the body, the path is that seen from it. */
function Trail({ info, part, row }: { info: TakeInfo; part: PartRef; row: number }) {
  const theme = useTheme();
  const size = useThree((s) => s.size);
  const { frame } = usePick("frame");
  const strand = info.strands.find((s) => same(s, part));
  const keyed = useMemo(() => new Set(strand?.keys.map((k) => Math.round(k.time)) ?? []), [strand]);
  const color = strand?.side === "left" ? theme.ink.left : strand?.side === "right" ? theme.ink.right : theme.ink.accent;
  const made = useMemo(() => {
    const [line, ticks, keys] = [strokes(color, 2 * REACH + 1), dots(color, 5, 2 * REACH + 1), dots(theme.ink.ink, 9, 2 * REACH + 1)];
    return { line, ticks, keys, all: [...line.lines, ...ticks.points, ...keys.points] };
  }, [color, theme]);
  useFreed(made.all);
  useEffect(() => made.line.lines.forEach((l) => l.material.resolution.set(size.width, size.height)), [made, size]);

  useFrame(() => {
    const path: number[] = [];
    const places = { ticks: made.ticks.geometry.getAttribute("position") as THREE.BufferAttribute, keys: made.keys.geometry.getAttribute("position") as THREE.BufferAttribute };
    const count = { ticks: 0, keys: 0 };
    const carry = carrier(info);
    for (let f = Math.max(info.first, frame - REACH); f <= Math.min(info.last, frame + REACH); f++) {
      const pose = poseAt(f);
      if (!pose) continue;
      const at = carry(pose, placed(pose, row).pos);
      path.push(at.x, at.y, at.z);
      const kind = keyed.has(f) ? "keys" : "ticks";
      places[kind].setXYZ(count[kind]++, at.x, at.y, at.z);
    }
    for (const line of made.line.lines) line.visible = path.length > 3;
    lay(made.line.geometry, path);
    for (const kind of ["ticks", "keys"] as const) {
      made[kind].geometry.setDrawRange(0, count[kind]);
      places[kind].needsUpdate = true;
    }
  });
  return (
    <>
      {made.all.map((o) => (
        <primitive key={o.uuid} object={o} />
      ))}
    </>
  );
}

/** Where a place of another frame lies as seen from what the camera goes with; for the body and for none: where it was. */
export function carrier(info: TakeInfo): (pose: Float32Array, at: THREE.Vector3) => THREE.Vector3 {
  const { goesWith } = useBench.getState();
  const [member, joint] = goesWith.split("/");
  const now = poseNow();
  const row = member && joint ? rowOf(info, member, joint) : -1;
  if (row < 0 || !now) return (_, at) => at;
  const here = placed(now, row);
  return (pose, at) => {
    const there = placed(pose, row);
    return at.sub(there.pos).applyQuaternion(there.rot.invert()).applyQuaternion(here.rot).add(here.pos);
  };
}
