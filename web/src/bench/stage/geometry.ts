import * as THREE from "three";
import type { Member, TakeInfo } from "../../shared/api";
import type { Solid, Spot } from "./framing";

type Shape = Member["shapes"][number];

const up = new THREE.Vector3(0, 1, 0);

/** Sides of a round thing of this radius, metres: its outline is nowhere more than two millimetres from round. Without a graphics
 * processor corners are what drawing takes, and a body has many small things. */
const sidesOf = (radius: number) => Math.min(18, Math.max(7, Math.ceil(Math.PI / Math.acos(1 - Math.min(0.5, 0.002 / radius)))));

/** A capsule from a to b whose ends may differ in thickness. */
function taper(a: THREE.Vector3, b: THREE.Vector3, ra: number, rb: number): THREE.BufferGeometry {
  const length = a.distanceTo(b);
  const profile: THREE.Vector2[] = [];
  const around = sidesOf(Math.max(ra, rb));
  const rings = Math.ceil(around / 4);
  for (let i = 0; i <= rings; i++) {
    const t = -Math.PI / 2 + (i / rings) * (Math.PI / 2);
    profile.push(new THREE.Vector2(Math.max(ra * Math.cos(t), 1e-5), ra * Math.sin(t)));
  }
  for (let i = 0; i <= rings; i++) {
    const t = (i / rings) * (Math.PI / 2);
    profile.push(new THREE.Vector2(Math.max(rb * Math.cos(t), 1e-5), length + rb * Math.sin(t)));
  }
  const geometry = new THREE.LatheGeometry(profile, around);
  const turn = new THREE.Quaternion().setFromUnitVectors(up, b.clone().sub(a).normalize());
  return geometry.applyQuaternion(turn).translate(a.x, a.y, a.z);
}

/** The mesh of a shape, in its joint. */
export function geometryOf(shape: Shape): THREE.BufferGeometry {
  const a = new THREE.Vector3(...shape.a);
  const b = new THREE.Vector3(...shape.b);
  const turn = new THREE.Quaternion(...shape.turn);
  const [s0 = 0.05, s1 = s0, s2 = s0] = shape.size;
  if (shape.form === "capsule") return taper(a, b, s0, s1);
  const round = sidesOf(Math.max(s0, s1, s2));
  if (shape.form === "ball") return new THREE.SphereGeometry(1, round, Math.ceil(0.6 * round)).scale(s0, s1, s2).applyQuaternion(turn).translate(a.x, a.y, a.z);
  if (shape.form === "block") return new THREE.BoxGeometry(s0, s1, s2).applyQuaternion(turn).translate(a.x, a.y, a.z);
  const ring = new THREE.TorusGeometry(s0, s1, sidesOf(s1), sidesOf(s0));
  const axis = new THREE.Quaternion().setFromUnitVectors(new THREE.Vector3(0, 0, 1), b.clone().normalize());
  return ring.applyQuaternion(axis).translate(a.x, a.y, a.z);
}

/** Place and rotation of a row of a pose table. */
export function placed(table: Float32Array, row: number): { pos: THREE.Vector3; rot: THREE.Quaternion } {
  const k = row * 7;
  return { pos: new THREE.Vector3(table[k], table[k + 1], table[k + 2]), rot: new THREE.Quaternion(table[k + 3], table[k + 4], table[k + 5], table[k + 6]) };
}

/** A place as choices hold it: x y z in metres. */
export const spoken = (at: THREE.Vector3) => at.toArray().map((v) => v.toFixed(4)).join(" ");

/** Where a pose table has the size of a member of the cast. */
export const sizeAt = (info: TakeInfo, member: string) => (info.sizes + info.members.findIndex((m) => m.id === member)) * 7;

/** A shape of a member of this size as a solid in the world, its joint posed so. */
export function solidOf(shape: Shape, pos: THREE.Vector3, rot: THREE.Quaternion, size: number): Solid {
  const world = (p: readonly [number, number, number] | number[]) => new THREE.Vector3(p[0], p[1], p[2]).multiplyScalar(size).applyQuaternion(rot).add(pos);
  const [s0 = 0.05, s1 = s0, s2 = s0] = shape.size.map((s) => s * size);
  if (shape.form === "block") return { form: "block", at: world(shape.a), turn: rot.clone().multiply(new THREE.Quaternion(...shape.turn)), half: new THREE.Vector3(s0 / 2, s1 / 2, s2 / 2) };
  if (shape.form === "ball" || shape.form === "ring") return { form: "bar", a: world(shape.a), b: world(shape.a), radius: Math.max(s0, s1, shape.form === "ball" ? s2 : 0) };
  return { form: "bar", a: world(shape.a), b: world(shape.b), radius: Math.max(s0, s1) };
}

/** What a camera must see of a shape: its ends. */
export function spotsOf(shape: Shape, pos: THREE.Vector3, rot: THREE.Quaternion, size: number): Spot[] {
  const solid = solidOf(shape, pos, rot, size);
  if (solid.form === "block") return [{ at: solid.at, reach: solid.half.length() }];
  return [solid.a, solid.b].map((at) => ({ at, reach: solid.radius }));
}
