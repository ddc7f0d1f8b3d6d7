import { useTheme } from "@mui/material";
import { useFrame } from "@react-three/fiber";
import { useEffect, useMemo, useRef } from "react";
import * as THREE from "three";
import type { HandleInfo, TakeInfo } from "../../shared/api";
import { poseNow } from "./poses";
import { BOTH, driverAt, same, sameHandle, strandOf, useBench, type HandleRef, type PartRef } from "../state";
import { useFreed } from "./useFreed";
import { useGrab } from "./useGrab";

/** Handles that show: those that always do, and all of the part in hand. */
export function handlesOf(info: TakeInfo, focus: PartRef | null, inHand: HandleRef[]): HandleInfo[] {
  return info.handles.filter((h) => h.always || same(h, focus) || inHand.some((x) => sameHandle(x, h)));
}

/** Three strokes through a place, and a ring of four about it. */
function crossed(reach: number, ring: number): THREE.BufferGeometry {
  const ends = [0, 1, 2].flatMap((axis) => [-reach, reach].map((v) => new THREE.Vector3().setComponent(axis, v)));
  const round = [0, 1, 2, 3, 4].map((k) => new THREE.Vector3(ring * Math.cos((k * Math.PI) / 2), 0, ring * Math.sin((k * Math.PI) / 2)));
  return new THREE.BufferGeometry().setFromPoints([...ends, ...[0, 1, 2, 3].flatMap((k) => [round[k]!, round[k + 1]!])]);
}

/** Shapes by the forms that the service names: a cradle for a hand or foot, a lozenge to aim at, a band round a joint, a cross for a
 * place of the animator's own, a lever to roll a foot by, a pin in a point to turn about. */
const forms: Record<string, { geometry: THREE.BufferGeometry; lines: boolean; grip: number }> = {
  cradle: { geometry: new THREE.EdgesGeometry(new THREE.CylinderGeometry(0.085, 0.085, 0.1, 6)), lines: true, grip: 0.085 },
  lozenge: { geometry: new THREE.OctahedronGeometry(0.034), lines: false, grip: 0.085 },
  band: { geometry: new THREE.TorusGeometry(0.078, 0.008, 6, 26), lines: false, grip: 0.05 },
  lever: { geometry: new THREE.BoxGeometry(0.06, 0.012, 0.034), lines: false, grip: 0.06 },
  pin: { geometry: new THREE.TetrahedronGeometry(0.026), lines: false, grip: 0.05 },
  cross: { geometry: crossed(0.09, 0.045), lines: true, grip: 0.085 },
};
const formOf = (handle: HandleInfo) => forms[handle.form] ?? forms["band"]!;
const bigger = new THREE.SphereGeometry(1, 10, 8);
const scratch = { v: new THREE.Vector3(), q: new THREE.Quaternion(), n: new THREE.Vector3() };

interface Props {
  info: TakeInfo;
  spec: HandleInfo;
  onHold: (holding: boolean) => void;
}

/** One handle: drawn where it fits the pose, faint while its system is idle; dragging it poses the part live. */
export function Handle({ info, spec, onHold }: Props) {
  const theme = useTheme();
  const strand = useMemo(() => strandOf(info, spec), [info, spec]);
  const held = useBench((b) => b.inHand.some((h) => sameHandle(h, spec)));
  const keyed = strand?.systems.find((s) => s.name === spec.system)?.keyed ?? true;
  const tied = spec.joined !== null || spec.turns !== null;
  const group = useRef<THREE.Group>(null);
  const shape = useRef<THREE.Object3D>(null);
  const line = useRef<THREE.Line>(null);
  const material = useMemo(() => {
    const color = held ? theme.ink.ink : spec.side === "left" ? theme.ink.left : spec.side === "right" ? theme.ink.right : theme.ink.accent;
    return formOf(spec).lines
      ? new THREE.LineBasicMaterial({ color, transparent: true, depthTest: false })
      : new THREE.MeshBasicMaterial({ color, transparent: true, depthTest: false });
  }, [spec, theme, held]);
  const thread = useMemo(() => {
    const geometry = new THREE.BufferGeometry().setAttribute("position", new THREE.BufferAttribute(new Float32Array(6), 3));
    const made = new THREE.Line(geometry, new THREE.LineDashedMaterial({ color: (material as THREE.LineBasicMaterial).color, dashSize: 0.035, gapSize: 0.02, transparent: true, depthTest: false }));
    made.frustumCulled = false;
    made.renderOrder = 4;
    made.raycast = () => undefined;
    return made;
  }, [material]);

  useFreed(thread);
  useEffect(() => () => material.dispose(), [material]);

  useFrame(() => {
    const table = poseNow();
    const g = group.current;
    if (!g || !table) return;
    const k = spec.row * 7;
    // While a revision without it is on its way, an anchor has no row.
    if (k >= table.length) return void (g.visible = false);
    g.position.set(table[k]!, table[k + 1]!, table[k + 2]!);
    if (spec.turns) g.position.add(scratch.v.set(...spec.turns.marker).applyQuaternion(scratch.q.set(table[k + 3]!, table[k + 4]!, table[k + 5]!, table[k + 6]!)));
    if (spec.along !== null) {
      const t = spec.along * 7;
      scratch.v.set(table[t]! - table[k]!, table[t + 1]! - table[k + 1]!, table[t + 2]! - table[k + 2]!).normalize();
      g.quaternion.setFromUnitVectors(scratch.n.set(0, 0, 1), scratch.v);
    } else if (spec.joined === null) g.quaternion.set(table[k + 3]!, table[k + 4]!, table[k + 5]!, table[k + 6]!);
    const { frame, focus, playing } = useBench.getState();
    const driver = strand ? driverAt(strand, frame) : BOTH;
    const mine = same(spec, focus);
    const driving = driver === spec.system || driver === BOTH;
    // What moves by itself is taken hold of only while it drives.
    const shown = driving || (mine && keyed);
    g.visible = !playing && shown;
    g.scale.setScalar(spec.size);
    material.opacity = driving ? (mine ? 1 : 0.75) : 0.28;
    if (tied) {
      // From a marker that is drawn clear of its point to that, else to the joint that it is joined to.
      const places = thread.geometry.getAttribute("position") as THREE.BufferAttribute;
      const t = spec.joined === null ? k : spec.joined * 7;
      places.setXYZ(0, g.position.x, g.position.y, g.position.z);
      places.setXYZ(1, table[t]!, table[t + 1]!, table[t + 2]!);
      places.needsUpdate = true;
      thread.computeLineDistances();
      thread.visible = g.visible;
      (thread.material as THREE.LineDashedMaterial).opacity = material.opacity;
    }
  });

  const grab = useGrab(info, spec, group, onHold);
  return (
    <>
      <group ref={group}>
        {formOf(spec).lines ? (
          <lineSegments ref={shape as React.RefObject<THREE.LineSegments>} geometry={formOf(spec).geometry} material={material} renderOrder={5} />
        ) : (
          <mesh ref={shape as React.RefObject<THREE.Mesh>} geometry={formOf(spec).geometry} material={material} renderOrder={5} />
        )}
        <mesh geometry={bigger} scale={formOf(spec).grip} userData={{ handle: spec }} onPointerDown={grab}>
          <meshBasicMaterial transparent opacity={0} depthWrite={false} />
        </mesh>
      </group>
      {tied && <primitive ref={line} object={thread} />}
    </>
  );
}
