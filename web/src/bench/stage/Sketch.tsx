import { useFrame } from "@react-three/fiber";
import { useEffect, useMemo, useRef } from "react";
import * as THREE from "three";
import type { TakeInfo } from "../../shared/api";

interface SketchProps {
  info: TakeInfo;
  pose: () => Float32Array | null;
  color: string;
  opacity: number;
}

/** Bones of the characters as ink lines: the frames before and after, or the skeleton under the body. */
export function Sketch({ info, pose, color, opacity }: SketchProps) {
  const { pairs, geometry } = useMemo(() => {
    const pairs: [number, number][] = [];
    let base = 0;
    for (const member of info.members) {
      if (member.kind === "character") member.parents.forEach((p, j) => p >= 0 && pairs.push([base + p, base + j]));
      base += member.joints.length;
    }
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(new Float32Array(pairs.length * 6), 3));
    return { pairs, geometry };
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [info.id]);
  const lines = useRef<THREE.LineSegments>(null);
  useEffect(() => () => geometry.dispose(), [geometry]);
  useFrame(() => {
    const table = pose();
    if (!lines.current) return;
    lines.current.visible = table !== null;
    if (!table) return;
    const places = geometry.getAttribute("position") as THREE.BufferAttribute;
    pairs.forEach(([a, b], i) => {
      places.setXYZ(2 * i, table[a * 7]!, table[a * 7 + 1]!, table[a * 7 + 2]!);
      places.setXYZ(2 * i + 1, table[b * 7]!, table[b * 7 + 1]!, table[b * 7 + 2]!);
    });
    places.needsUpdate = true;
  });
  return (
    <lineSegments ref={lines} name="bones" visible={false} geometry={geometry} frustumCulled={false} renderOrder={3}>
      <lineBasicMaterial color={color} transparent opacity={opacity} depthTest={false} />
    </lineSegments>
  );
}
