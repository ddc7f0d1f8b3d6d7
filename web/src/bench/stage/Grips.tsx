import { useTheme } from "@mui/material";
import { useFrame } from "@react-three/fiber";
import { useMemo } from "react";
import * as THREE from "three";
import type { TakeInfo } from "../../shared/api";
import { placed, sizeAt } from "./geometry";
import { poseNow } from "./poses";
import { rowOf } from "./viewpoints";
import { useFreed } from "./useFreed";

const REACH = 0.03;

/** Where things are held: a small cross at each grip, and a stroke towards what is held. Drawn while something to follow is asked for. */
export function Grips({ info }: { info: TakeInfo }) {
  const theme = useTheme();
  const grips = useMemo(() => info.members.flatMap((m) => m.grips.map((grip) => ({ grip, row: rowOf(info, m.id, grip.joint), size: sizeAt(info, m.id) }))), [info]);
  const strokes = useMemo(() => {
    const geometry = new THREE.BufferGeometry().setAttribute("position", new THREE.BufferAttribute(new Float32Array(grips.length * 18), 3));
    const made = new THREE.LineSegments(geometry, new THREE.LineBasicMaterial({ color: theme.ink.accent, depthTest: false, transparent: true }));
    made.frustumCulled = false;
    made.renderOrder = 6;
    made.raycast = () => undefined;
    return made;
  }, [grips, theme]);
  useFreed(strokes);
  useFrame(() => {
    const table = poseNow();
    strokes.visible = table !== null;
    if (!table) return;
    const places = strokes.geometry.getAttribute("position") as THREE.BufferAttribute;
    grips.forEach(({ grip, row, size }, n) => {
      const { pos, rot } = placed(table, row);
      const at = new THREE.Vector3(...grip.position).multiplyScalar(table[size]!).applyQuaternion(rot).add(pos);
      const towards = new THREE.Vector3(...grip.towards).applyQuaternion(rot);
      const across = new THREE.Vector3(0, 1, 0).cross(towards);
      if (across.lengthSq() < 1e-6) across.set(1, 0, 0);
      across.normalize();
      const other = across.clone().cross(towards);
      [across, other].forEach((way, k) => {
        const [a, b] = [at.clone().addScaledVector(way, -REACH), at.clone().addScaledVector(way, REACH)];
        places.setXYZ(6 * n + 2 * k, a.x, a.y, a.z);
        places.setXYZ(6 * n + 2 * k + 1, b.x, b.y, b.z);
      });
      places.setXYZ(6 * n + 4, at.x, at.y, at.z);
      places.setXYZ(6 * n + 5, at.x + 2 * REACH * towards.x, at.y + 2 * REACH * towards.y, at.z + 2 * REACH * towards.z);
    });
    places.needsUpdate = true;
  });
  return <primitive object={strokes} />;
}
