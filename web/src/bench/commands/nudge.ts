import * as THREE from "three";
import type { DragAsked, Strand } from "../../shared/api";
import { driverAt, same, useBench } from "../state";
import { placed } from "../stage/geometry";
import { stage } from "../stage/viewpoints";

/** How far an arrow with Alt moves a control: metres, or radians where it turns. */
const STEP = 0.01;
const TURN = Math.PI / 36;

/** A drag of a part that stands so at a frame by a step across or up the picture, as the keyboard gives it. */
export function nudge(table: Float32Array | null, strand: Strand, frame: number, across: number, high: number, turning: boolean): DragAsked | null {
  const { info, stays, layer } = useBench.getState();
  const camera = stage()?.camera;
  if (!info || !table || !camera) return null;
  const part = { member: strand.member, part: strand.part };
  const mine = info.handles.filter((h) => same(h, part));
  const system = driverAt(strand, frame);
  // What drives is moved by its first handle; a run of joints by its last one.
  const driving = mine.filter((h) => h.system === system);
  const handle = driving.find((h) => h.gestures.includes("move")) ?? driving[driving.length - 1] ?? mine[0];
  if (!handle) return null;
  const [right, up] = [0, 1].map((c) => new THREE.Vector3().setFromMatrixColumn(camera.matrixWorld, c)) as [THREE.Vector3, THREE.Vector3];
  const { pos, rot } = placed(table, handle.row);
  if (turning || !handle.gestures.includes("move")) {
    rot.premultiply(new THREE.Quaternion().setFromAxisAngle(up, across * TURN));
    rot.premultiply(new THREE.Quaternion().setFromAxisAngle(right, -high * TURN));
  } else pos.addScaledVector(right, across * STEP).addScaledVector(up, high * STEP);
  const keep = stays.filter((p) => !same(p, part));
  return { revision: info.revision, frame, ...part, control: handle.control, position: [pos.x, pos.y, pos.z], rotation: [rot.x, rot.y, rot.z, rot.w], also: [], keep, layer };
}
