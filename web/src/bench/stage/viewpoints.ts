import * as THREE from "three";
import type { OrbitControls as Controls } from "three-stdlib";
import type { TakeInfo } from "../../shared/api";
import type { PartRef, Viewpoint } from "../state";
import { clearest, framed, type Inset, type Lens, type Solid, type Spot } from "./framing";
import { placed, sizeAt, solidOf, spotsOf } from "./geometry";

/** The camera of the stage that is mounted: one a page. */
export interface Stage {
  camera: THREE.PerspectiveCamera;
  controls: Controls;
  redraw: () => void;
}

let mounted: Stage | null = null;
export const stage = () => mounted;
export const mountStage = (next: Stage | null) => void (mounted = next);

/** Directions from what is looked at to the camera. */
const DIRECTIONS: Record<Exclude<Viewpoint, "free">, [number, number, number]> = { front: [0, 0.08, 1], side: [1, 0.08, 0], top: [0, 1, 0.0001], floor: [1, 0, 0.13] };
/** Sides from which a take may open, in order of liking. */
const sidesFrom = (first: 1 | -1) => [40, -40, 75, -75, 10, 110, -110, 145, -145, 180].map((d) => first * d).map((d) => new THREE.Vector3(Math.sin((d * Math.PI) / 180), 0.22, Math.cos((d * Math.PI) / 180)));
/** Height of the camera at floor level, metres. */
const FLOOR = 0.09;

/** What is to be seen: a part, from one of its joints on, the body of a character, with more of the cast, or all that moves. */
export type Subject = { part: PartRef; from?: string } | { member: string; more?: string[] } | "all";

const indices = new WeakMap<TakeInfo, Map<string, number>>();

/** Row of a joint in the pose tables of a take. */
export function rowOf(info: TakeInfo, member: string, joint: string): number {
  let index = indices.get(info);
  if (!index) indices.set(info, (index = new Map(info.joints.map(([m, j], i) => [`${m}/${j}`, i]))));
  return index.get(`${member}/${joint}`) ?? -1;
}

export function spotsFor(info: TakeInfo, table: Float32Array, subject: Subject): Spot[] {
  const found: Spot[] = [];
  for (const member of info.members) {
    if (subject === "all" ? member.kind === "set" || member.kind === "camera" : "member" in subject ? subject.member !== member.id && !subject.more?.includes(member.id) : subject.part.member !== member.id) continue;
    const joints = subject !== "all" && "part" in subject ? (member.parts.find((p) => p.name === subject.part.part)?.joints ?? []) : member.joints;
    const from = subject !== "all" && "part" in subject && subject.from ? joints.indexOf(subject.from) : 0;
    const wanted = new Set(joints.slice(Math.max(from, 0)));
    for (const joint of wanted) found.push({ at: placed(table, rowOf(info, member.id, joint)).pos, reach: 0.02 });
    for (const shape of member.shapes) {
      if (!wanted.has(shape.joint)) continue;
      const { pos, rot } = placed(table, rowOf(info, member.id, shape.joint));
      found.push(...spotsOf(shape, pos, rot, table[sizeAt(info, member.id)]!));
    }
  }
  // What is in no cast is seen by its handles.
  if (!found.length && subject !== "all" && "part" in subject)
    for (const handle of info.handles) if (handle.member === subject.part.member && handle.row * 7 < table.length) found.push({ at: placed(table, handle.row).pos, reach: 0.15 });
  return found;
}

/** What a body reaches in other poses than that of `now`, its root carried across the floor to where it is now. */
export function spotsAlong(info: TakeInfo, member: string, now: Float32Array, poses: Float32Array[]): Spot[] {
  const root = rowOf(info, member, info.members.find((m) => m.id === member)!.centre);
  const here = placed(now, root).pos;
  return poses.flatMap((pose) => {
    const step = here.clone().sub(placed(pose, root).pos).setY(0);
    return spotsFor(info, pose, { member }).map((s) => ({ at: s.at.add(step), reach: s.reach }));
  });
}

function solidsOf(info: TakeInfo, table: Float32Array): Solid[] {
  return info.members
    .filter((m) => m.kind === "set")
    .flatMap((m) =>
      m.shapes.map((shape) => {
        const { pos, rot } = placed(table, rowOf(info, m.id, shape.joint));
        return solidOf(shape, pos, rot, table[sizeAt(info, m.id)]!);
      }),
    );
}

/** What the panels leave of the picture. */
export function insetOf(width: number, height: number): Inset {
  const share = (pixels: number, of: number) => Math.min(pixels / Math.max(of, 1), 0.3);
  return { left: share(292, width), right: share(324, width), top: share(12, height), bottom: share(12, height) };
}

/** Where the camera stands for a viewpoint; the free one from the side on which nothing hides the subject, of two alike that at
 * positive (1) or negative x. `along`: more spots that it must show, of other frames. */
export function viewed(info: TakeInfo, table: Float32Array, subject: Subject, viewpoint: Viewpoint, lens: Lens, inset: Inset, from: 1 | -1 = 1, along: Spot[] = []) {
  const now = spotsFor(info, table, subject);
  const spots = [...now, ...along];
  if (!spots.length) spots.push({ at: new THREE.Vector3(0, 0.9, 0), reach: 0.9 });
  // What stands below the knees, a deck, hides soles from every side.
  const seen = now.filter((s) => s.at.y > Math.min(...now.map((x) => x.at.y)) + 0.15);
  if (viewpoint === "free") return framed(spots, clearest(sidesFrom(from), seen.length ? seen : spots, solidsOf(info, table), lens, inset), lens, inset);
  const direction = new THREE.Vector3(...DIRECTIONS[viewpoint]);
  let found = framed(spots, direction, lens, inset);
  if (viewpoint !== "floor") return found;
  // Down to the floor on which the subject stands, and looking up at it from there.
  const low = Math.min(...spots.map((s) => s.at.y - s.reach)) + FLOOR;
  for (let k = 0; k < 4; k++) {
    const distance = found.position.distanceTo(found.target);
    direction.set(direction.x, 0, direction.z).normalize();
    direction.y = (low - found.target.y) / distance;
    found = framed(spots, direction, lens, inset);
  }
  return found;
}

/** The same subject seen from where the camera is, in full. */
export function reframed(info: TakeInfo, table: Float32Array, subject: Subject, { camera, controls }: Stage, inset: Inset) {
  const spots = spotsFor(info, table, subject);
  if (!spots.length) return;
  const { position, target } = framed(spots, camera.position.clone().sub(controls.target), camera, inset);
  camera.position.copy(position);
  controls.target.copy(target);
}

/** Puts the view where a camera of the cast is: along its −Z, its Y up. */
export function through({ camera, controls }: Stage, { pos, rot }: ReturnType<typeof placed>) {
  camera.position.copy(pos);
  camera.up.set(0, 1, 0).applyQuaternion(rot);
  controls.target.set(0, 0, -2).applyQuaternion(rot).add(pos);
}

/** Carries camera and target along as an anchor moves: as a whole, or (`level`) across the floor only. */
export function carried({ camera, controls }: Stage, before: ReturnType<typeof placed>, now: ReturnType<typeof placed>, level: boolean) {
  if (level) {
    const step = now.pos.clone().sub(before.pos).setY(0);
    camera.position.add(step);
    controls.target.add(step);
    return;
  }
  const turn = now.rot.clone().multiply(before.rot.clone().invert());
  for (const p of [camera.position, controls.target]) p.sub(before.pos).applyQuaternion(turn).add(now.pos);
  camera.up.applyQuaternion(turn).normalize();
}

/** Turns (radians), shifts (shares of the picture's height) or zooms the camera, as keys do. */
export function steered({ camera, controls, redraw }: Stage, how: { turn?: [number, number]; shift?: [number, number]; zoom?: number }) {
  const off = camera.position.clone().sub(controls.target);
  if (how.turn) {
    const ball = new THREE.Spherical().setFromVector3(off);
    ball.theta -= how.turn[0];
    ball.phi = Math.min(Math.max(ball.phi - how.turn[1], 0.01), Math.PI - 0.01);
    off.setFromSpherical(ball);
  }
  if (how.shift) {
    const size = 2 * off.length() * Math.tan((camera.fov * Math.PI) / 360);
    const [x, y] = [0, 1].map((c) => new THREE.Vector3().setFromMatrixColumn(camera.matrixWorld, c));
    controls.target.addScaledVector(x!, how.shift[0] * size).addScaledVector(y!, how.shift[1] * size);
  }
  if (how.zoom) off.multiplyScalar(how.zoom);
  camera.position.copy(controls.target).add(off);
  controls.update();
  redraw();
}
