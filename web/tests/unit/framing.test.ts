import * as THREE from "three";
import { describe, expect, test } from "vitest";
import { clearest, distanceOfLines, framed, meets, type Solid, type Spot } from "../../src/bench/stage/framing";

const random = (seed: number) => () => {
  seed = (seed * 1664525 + 1013904223) % 4294967296;
  return seed / 4294967296;
};
const point = (next: () => number, size = 1) => new THREE.Vector3(next() - 0.5, next() - 0.5, next() - 0.5).multiplyScalar(2 * size);

describe("framed", () => {
  test("every spot lies within the free part of the picture, and one touches its edge", () => {
    const next = random(3);
    for (let round = 0; round < 60; round++) {
      const spots: Spot[] = Array.from({ length: 1 + Math.floor(next() * 20) }, () => ({ at: point(next, 1.5), reach: next() * 0.2 }));
      const lens = { fov: 20 + next() * 40, aspect: 0.7 + next() * 2.5 };
      const inset = { left: next() * 0.3, right: next() * 0.3, top: next() * 0.1, bottom: next() * 0.1 };
      const direction = round % 5 ? point(next) : new THREE.Vector3(0, 1, 0.0001);
      const { position, target } = framed(spots, direction, lens, inset);
      const camera = new THREE.PerspectiveCamera(lens.fov, lens.aspect, 0.01, 100);
      camera.position.copy(position);
      camera.up.set(0, 1, 0);
      camera.lookAt(target);
      camera.updateMatrixWorld();
      const tall = Math.tan((lens.fov * Math.PI) / 360);
      let edge = 0;
      for (const s of spots) {
        const seen = s.at.clone().applyMatrix4(camera.matrixWorldInverse);
        const depth = -seen.z - s.reach;
        expect(depth).toBeGreaterThan(0);
        const across = [(seen.x - s.reach) / (depth * tall * lens.aspect), (seen.x + s.reach) / (depth * tall * lens.aspect)] as const;
        const high = [(seen.y - s.reach) / (depth * tall), (seen.y + s.reach) / (depth * tall)] as const;
        // In shares of the picture from its middle. What is nearer than the middle is shifted more, by a little.
        const slack = 0.12;
        expect(across[0]).toBeGreaterThanOrEqual(-1 + 2 * inset.left - slack);
        expect(across[1]).toBeLessThanOrEqual(1 - 2 * inset.right + slack);
        expect(high[0]).toBeGreaterThanOrEqual(-1 + 2 * inset.bottom - slack);
        expect(high[1]).toBeLessThanOrEqual(1 - 2 * inset.top + slack);
        edge = Math.max(edge, -across[0] / (1 - 2 * inset.left), across[1] / (1 - 2 * inset.right), -high[0] / (1 - 2 * inset.bottom), high[1] / (1 - 2 * inset.top));
      }
      expect(edge).toBeGreaterThan(0.6);
    }
  });
});

describe("what stands between", () => {
  test("the distance of two lines is the least over both", () => {
    const next = random(5);
    for (let k = 0; k < 50; k++) {
      const [p, q, a, b] = [point(next), point(next), point(next), point(next)];
      let least = Infinity;
      for (let i = 0; i <= 60; i++)
        for (let j = 0; j <= 60; j++) least = Math.min(least, p.clone().lerp(q, i / 60).distanceTo(a.clone().lerp(b, j / 60)));
      const found = distanceOfLines(p, q, a, b);
      expect(found).toBeLessThanOrEqual(least + 1e-9);
      expect(found).toBeGreaterThan(least - 0.05);
    }
  });

  test("a line meets a block as its points say", () => {
    const next = random(7);
    for (let k = 0; k < 80; k++) {
      const block: Solid = { form: "block", at: point(next, 0.4), turn: new THREE.Quaternion().setFromEuler(new THREE.Euler(next() * 6, next() * 6, next() * 6)), half: new THREE.Vector3(0.1 + next() * 0.4, 0.1 + next() * 0.4, 0.1 + next() * 0.4) };
      const [p, q] = [point(next, 1.5), point(next, 1.5)];
      const inside = (v: THREE.Vector3, by: number) => {
        const l = v.clone().sub(block.at).applyQuaternion(block.turn.clone().invert());
        return [0, 1, 2].every((c) => Math.abs(l.getComponent(c)) <= block.half.getComponent(c) + by);
      };
      const points = Array.from({ length: 2001 }, (_, i) => p.clone().lerp(q, i / 2000));
      const met = meets(block, p, q);
      if (points.some((v) => inside(v, 0))) expect(met).toBe(true);
      if (!points.some((v) => inside(v, 0.01))) expect(met).toBe(false);
    }
  });

  test("a take opens from a side on which nothing hides the body", () => {
    const body: Spot[] = [0.1, 0.5, 0.9, 1.3, 1.7].map((y) => ({ at: new THREE.Vector3(0, y, 0), reach: 0.15 }));
    const wall: Solid = { form: "block", at: new THREE.Vector3(0, 1, 0.8), turn: new THREE.Quaternion(), half: new THREE.Vector3(2, 1.2, 0.05) };
    const sides = [0, 45, 180].map((d) => new THREE.Vector3(Math.sin((d * Math.PI) / 180), 0.2, Math.cos((d * Math.PI) / 180)));
    const lens = { fov: 34, aspect: 2 };
    const none = { left: 0, right: 0, top: 0, bottom: 0 };
    expect(clearest(sides, body, [], lens, none)).toBe(sides[0]);
    expect(clearest(sides, body, [wall], lens, none)).toBe(sides[2]);
  });
});
