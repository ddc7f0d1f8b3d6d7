import { useTheme } from "@mui/material";
import { useFrame, useThree, type ThreeEvent } from "@react-three/fiber";
import { useEffect, useMemo, useRef } from "react";
import * as THREE from "three";
import type { DragAsked, HandleInfo, TakeInfo } from "../../shared/api";
import { useActions } from "../actions";
import { poseNow } from "./poses";
import { live } from "../live";
import { BOTH, driverAt, NOTHING, same, strandOf, useBench, type HandleRef, type PartRef } from "../state";
import { placed } from "./geometry";
import { along, moved, swung, turned, type Put } from "./gestures";

/** Handles that show: those that always do, and all of the part in hand. */
export function handlesOf(info: TakeInfo, focus: PartRef | null, inHand: HandleRef[]): HandleInfo[] {
  return info.handles.filter((h) => h.always || same(h, focus) || inHand.some((x) => sameHandle(x, h)));
}

/** Shapes by the forms that the service names: a cradle for a hand or foot, a lozenge to aim at, a band round a joint. */
const forms: Record<string, { geometry: THREE.BufferGeometry; lines: boolean; grip: number }> = {
  cradle: { geometry: new THREE.EdgesGeometry(new THREE.CylinderGeometry(0.085, 0.085, 0.1, 6)), lines: true, grip: 0.085 },
  lozenge: { geometry: new THREE.OctahedronGeometry(0.034), lines: false, grip: 0.085 },
  band: { geometry: new THREE.TorusGeometry(0.078, 0.008, 6, 26), lines: false, grip: 0.05 },
};
const formOf = (handle: HandleInfo) => forms[handle.form] ?? forms["band"]!;
const bigger = new THREE.SphereGeometry(1, 10, 8);
const sameHandle = (a: HandleRef, b: HandleRef) => same(a, b) && a.control === b.control;
const putOf = (table: Float32Array, row: number): Put => {
  const { pos, rot } = placed(table, row);
  return { place: pos, turn: rot };
};
const told = ({ place, turn }: Put): Pick<DragAsked, "position" | "rotation"> => ({ position: [place.x, place.y, place.z], rotation: [turn.x, turn.y, turn.z, turn.w] });
const scratch = { v: new THREE.Vector3(), q: new THREE.Quaternion(), n: new THREE.Vector3() };

interface Props {
  info: TakeInfo;
  spec: HandleInfo;
  onHold: (holding: boolean) => void;
}

/** One handle: drawn where it fits the pose, faint while its system is idle; dragging it poses the part live. */
export function Handle({ info, spec, onHold }: Props) {
  const theme = useTheme();
  const { camera, gl, raycaster, size } = useThree();
  const { letGo } = useActions();
  const strand = useMemo(() => strandOf(info, spec), [info, spec]);
  const held = useBench((b) => b.inHand.some((h) => sameHandle(h, spec)));
  const keyed = strand?.systems.find((s) => s.name === spec.system)?.keyed ?? true;
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

  useEffect(
    () => () => {
      material.dispose();
      thread.geometry.dispose();
      (thread.material as THREE.Material).dispose();
    },
    [material, thread],
  );

  useFrame(() => {
    const table = poseNow();
    const g = group.current;
    if (!g || !table) return;
    const k = spec.row * 7;
    g.position.set(table[k]!, table[k + 1]!, table[k + 2]!);
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
    material.opacity = driving ? (mine ? 1 : 0.75) : 0.28;
    if (spec.joined !== null) {
      const places = thread.geometry.getAttribute("position") as THREE.BufferAttribute;
      const t = spec.joined * 7;
      places.setXYZ(0, table[k]!, table[k + 1]!, table[k + 2]!);
      places.setXYZ(1, table[t]!, table[t + 1]!, table[t + 2]!);
      places.needsUpdate = true;
      thread.computeLineDistances();
      thread.visible = g.visible;
      (thread.material as THREE.LineDashedMaterial).opacity = material.opacity;
    }
  });

  const grab = (event: ThreeEvent<PointerEvent>) => {
    if (event.button !== 0 || !group.current?.visible) return;
    event.stopPropagation();
    const table = poseNow();
    if (!table) return;
    const bench = useBench.getState();
    const me = { member: spec.member, part: spec.part, control: spec.control };
    const mine = bench.inHand.some((h) => sameHandle(h, me));
    if (event.nativeEvent.shiftKey) {
      // Shift takes one more in hand, or lets it go.
      bench.set({ inHand: mine ? bench.inHand.filter((h) => !sameHandle(h, me)) : [...bench.inHand, me], focus: me });
      return;
    }
    const others = mine ? info.handles.filter((h) => !sameHandle(h, me) && bench.inHand.some((x) => sameHandle(x, h))) : [];
    bench.set({ ...NOTHING, ...(mine ? {} : { inHand: [] }), focus: { member: spec.member, part: spec.part }, playing: false, held: null });
    onHold(true);
    const from = putOf(table, spec.row);
    const tip = spec.along === null ? null : placed(table, spec.along).pos;
    const plane = new THREE.Plane().setFromNormalAndCoplanarPoint(camera.getWorldDirection(new THREE.Vector3()), event.point);
    const start = event.point.clone();
    const down = { x: event.nativeEvent.clientX, y: event.nativeEvent.clientY };
    const turning = bench.turning && spec.gestures.includes("turn");
    const keep = bench.stays.filter((p) => !same(p, spec) && !others.some((o) => same(o, p)));
    let asked: DragAsked | null = null;

    const at = (e: PointerEvent): THREE.Vector3 | null => {
      const box = gl.domElement.getBoundingClientRect();
      const p = new THREE.Vector2(((e.clientX - box.left) / size.width) * 2 - 1, 1 - ((e.clientY - box.top) / size.height) * 2);
      raycaster.setFromCamera(p, camera);
      return raycaster.ray.intersectPlane(plane, new THREE.Vector3());
    };
    const move = (e: PointerEvent) => {
      const hit = at(e);
      if (!hit) return;
      const to = turning ? turned(from, camera, e.clientX - down.x, e.clientY - down.y) : spec.gestures.includes("swing") ? swung(from, tip, start, hit) : moved(from, start, hit);
      asked = {
        revision: info.revision,
        frame: useBench.getState().frame,
        ...me,
        ...told(to),
        also: others.map((o) => ({ member: o.member, part: o.part, control: o.control, ...told(along(putOf(table, o.row), from, to)) })),
        keep,
      };
      live.drag(info.id, asked);
    };
    const stop = (keepIt: boolean) => {
      window.removeEventListener("pointermove", move);
      window.removeEventListener("pointerup", release);
      window.removeEventListener("keydown", cancel, true);
      onHold(false);
      live.end();
      if (asked && keepIt) void letGo(asked);
      else useBench.getState().set({ live: null });
    };
    const release = () => stop(true);
    const cancel = (e: KeyboardEvent) => {
      if (e.key !== "Escape") return;
      e.stopPropagation();
      stop(false);
    };
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", release);
    window.addEventListener("keydown", cancel, true);
  };

  return (
    <>
      <group ref={group}>
        {formOf(spec).lines ? (
          <lineSegments ref={shape as React.RefObject<THREE.LineSegments>} geometry={formOf(spec).geometry} material={material} renderOrder={5} />
        ) : (
          <mesh ref={shape as React.RefObject<THREE.Mesh>} geometry={formOf(spec).geometry} material={material} renderOrder={5} />
        )}
        <mesh geometry={bigger} scale={formOf(spec).grip} onPointerDown={grab}>
          <meshBasicMaterial transparent opacity={0} depthWrite={false} />
        </mesh>
      </group>
      {spec.joined !== null && <primitive ref={line} object={thread} />}
    </>
  );
}
