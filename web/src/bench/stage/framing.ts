import * as THREE from "three";

/** Pure geometry of the camera: how far back it stands so that something fits, and from which side nothing hides it. */

/** A ball to be seen: a place and how far it reaches. */
export interface Spot {
  at: THREE.Vector3;
  reach: number;
}

/** What of the picture is covered by panels, as shares of its width and height. */
export interface Inset {
  left: number;
  right: number;
  top: number;
  bottom: number;
}

export interface Lens {
  /** Degrees from foot to head of the picture. */
  fov: number;
  aspect: number;
}

/** Where the camera stands, and what it looks at, so that all spots lie in the free part of the picture. `direction` leads from
 * what is looked at to the camera. */
export function framed(spots: Spot[], direction: THREE.Vector3, lens: Lens, inset: Inset): { position: THREE.Vector3; target: THREE.Vector3 } {
  const back = direction.clone().normalize();
  const pole = Math.abs(back.y) > 0.999 ? new THREE.Vector3(0, 0, -1) : new THREE.Vector3(0, 1, 0);
  const right = new THREE.Vector3().crossVectors(pole, back).normalize();
  const high = new THREE.Vector3().crossVectors(back, right);
  const tall = Math.tan((lens.fov * Math.PI) / 360);
  const wide = tall * lens.aspect;
  const along = (axis: THREE.Vector3) => spots.map((s) => [s.at.dot(axis), s.reach] as const);
  const middle = (found: (readonly [number, number])[]) => (Math.min(...found.map(([v, r]) => v - r)) + Math.max(...found.map(([v, r]) => v + r))) / 2;
  const [xs, ys, zs] = [along(right), along(high), along(back)];
  const [x, y, z] = [middle(xs), middle(ys), middle(zs)];
  const freeWide = wide * Math.max(1 - inset.left - inset.right, 0.1);
  const freeTall = tall * Math.max(1 - inset.top - inset.bottom, 0.1);
  let distance = 0.3;
  spots.forEach((s, i) => {
    const depth = zs[i]![0] - z + s.reach;
    distance = Math.max(distance, depth + (Math.abs(xs[i]![0] - x) + s.reach) / freeWide, depth + (Math.abs(ys[i]![0] - y) + s.reach) / freeTall);
  });
  const target = new THREE.Vector3()
    .addScaledVector(right, x - (inset.left - inset.right) * wide * distance)
    .addScaledVector(high, y - (inset.bottom - inset.top) * tall * distance)
    .addScaledVector(back, z);
  return { position: target.clone().addScaledVector(back, distance), target };
}

/** A solid in the world: a round bar from a to b, or a block about its middle. */
export type Solid = { form: "bar"; a: THREE.Vector3; b: THREE.Vector3; radius: number } | { form: "block"; at: THREE.Vector3; turn: THREE.Quaternion; half: THREE.Vector3 };

/** Whether a straight line between two places meets a solid. */
export function meets(solid: Solid, p: THREE.Vector3, q: THREE.Vector3): boolean {
  return solid.form === "bar" ? distanceOfLines(p, q, solid.a, solid.b) <= solid.radius : meetsBlock(solid, p, q);
}

/** Least distance of two straight pieces (C. Ericson, Real-Time Collision Detection, 2005, 5.1.9). */
export function distanceOfLines(p: THREE.Vector3, q: THREE.Vector3, a: THREE.Vector3, b: THREE.Vector3): number {
  const [u, v, w] = [q.clone().sub(p), b.clone().sub(a), p.clone().sub(a)];
  const [uu, uv, vv, uw, vw] = [u.dot(u), u.dot(v), v.dot(v), u.dot(w), v.dot(w)];
  const clamp = (x: number) => Math.min(Math.max(x, 0), 1);
  const flat = uu * vv - uv * uv;
  let s = flat > 1e-12 ? clamp((uv * vw - uw * vv) / flat) : 0;
  const t = clamp(vv > 1e-12 ? (uv * s + vw) / vv : 0);
  s = clamp(uu > 1e-12 ? (uv * t - uw) / uu : 0);
  return w.addScaledVector(u, s).addScaledVector(v, -t).length();
}

function meetsBlock(block: Extract<Solid, { form: "block" }>, p: THREE.Vector3, q: THREE.Vector3): boolean {
  const back = block.turn.clone().invert();
  const from = p.clone().sub(block.at).applyQuaternion(back);
  const step = q.clone().sub(block.at).applyQuaternion(back).sub(from);
  let [low, high] = [0, 1];
  for (const axis of [0, 1, 2] as const) {
    const [f, d, h] = [from.getComponent(axis), step.getComponent(axis), block.half.getComponent(axis)];
    if (Math.abs(d) < 1e-12) {
      if (Math.abs(f) > h) return false;
      continue;
    }
    const [t0, t1] = [(-h - f) / d, (h - f) / d];
    low = Math.max(low, Math.min(t0, t1));
    high = Math.min(high, Math.max(t0, t1));
  }
  return low <= high;
}

/** A solid that reaches a little further. */
function grown(solid: Solid, by: number): Solid {
  return solid.form === "bar" ? { ...solid, radius: solid.radius + by } : { ...solid, half: solid.half.clone().addScalar(by) };
}

/** What a direction further down in the order of liking costs, in hundredths of the spots hidden. */
const LIKING = 1.2;

/** Of some directions, in order of liking, the one from which least of the spots is hidden by solids: `near` metres beside
 * their line count too. A little hidden weighs less than a direction that is liked much less. */
export function clearest(directions: THREE.Vector3[], spots: Spot[], solids: Solid[], lens: Lens, inset: Inset, near = 0.04): THREE.Vector3 {
  let best = directions[0]!;
  let least = Infinity;
  const large = solids.map((s) => grown(s, near));
  directions.forEach((direction, k) => {
    const { position } = framed(spots, direction, lens, inset);
    const hidden = spots.filter((s) => large.some((solid) => meets(solid, s.at, position))).length;
    const cost = (100 * hidden) / spots.length + LIKING * k;
    if (cost < least) [best, least] = [direction, cost];
  });
  return best;
}
