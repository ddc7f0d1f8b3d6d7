import { useEffect } from "react";
import type * as THREE from "three";

type Drawn = THREE.Object3D & { geometry: THREE.BufferGeometry; material: THREE.Material | THREE.Material[] };

/** Gives back what the picture holds of things that were made by hand, once others are drawn in their place or none. */
export function useFreed(drawn: THREE.Object3D | readonly THREE.Object3D[]) {
  useEffect(
    () => () => {
      for (const { geometry, material } of [drawn].flat() as Drawn[]) {
        geometry.dispose();
        for (const m of [material].flat()) m.dispose();
      }
    },
    [drawn],
  );
}
