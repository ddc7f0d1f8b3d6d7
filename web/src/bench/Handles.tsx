import { useTheme } from "@mui/material";
import { useFrame, useThree, type ThreeEvent } from "@react-three/fiber";
import { useMemo, useRef } from "react";
import * as THREE from "three";
import type { DragAsked, TakeInfo } from "../shared/api";
import { useActions } from "./actions";
import { poseNow } from "./Body";
import { live } from "./live";
import { driverAt, NOTHING, strandOf, useBench, type PartRef } from "./state";

export interface HandleSpec {
  id: string;
  ref: PartRef;
  handle: DragAsked["handle"];
  joint: string;
  /** Row in the pose table, and that of what it is joined to by a line, or of the bone's end. */
  row: number;
  to: number;
  system: "IK" | "FK" | "root";
  side: string;
}

/** Handles of every limb, and of the part in hand. */
export function handlesOf(info: TakeInfo, focus: PartRef | null): HandleSpec[] {
  const index = new Map(info.joints.map(([m, j], i) => [`${m}/${j}`, i]));
  const found: HandleSpec[] = [];
  info.limbs.forEach((limb, n) => {
    const part = info.members.find((m) => m.id === limb.member)!.parts.find((p) => p.name === limb.part)!;
    const row = info.joints.length + 2 * n;
    const joint = (k: number) => index.get(`${limb.member}/${part.joints[k]}`)!;
    const base = { ref: limb, side: part.side };
    found.push({ ...base, id: `${limb.member}/${limb.part}/control`, handle: "control", joint: "", row, to: joint(2), system: "IK" });
    found.push({ ...base, id: `${limb.member}/${limb.part}/guide`, handle: "guide", joint: "", row: row + 1, to: joint(1), system: "IK" });
    if (focus?.member === limb.member && focus.part === limb.part)
      part.joints.forEach((name, k) =>
        found.push({ ...base, id: `${limb.member}/${limb.part}/${name}`, handle: "joint", joint: name, row: joint(k), to: k < 2 ? joint(k + 1) : -1, system: "FK" }),
      );
  });
  const member = info.members.find((m) => m.id === focus?.member);
  const part = member?.parts.find((p) => p.name === focus?.part);
  if (member && part && part.kind !== "limb") {
    for (const name of part.joints) {
      const row = index.get(`${member.id}/${name}`)!;
      const child = member.parents.indexOf(member.joints.indexOf(name));
      const to = child >= 0 ? index.get(`${member.id}/${member.joints[child]}`)! : -1;
      const root = part.kind === "free";
      found.push({ id: `${member.id}/${part.name}/${name}`, ref: { member: member.id, part: part.name }, side: part.side, handle: root ? "control" : "joint", joint: root ? "" : name, row, to, system: root ? "root" : "FK" });
    }
  }
  return found;
}

const forms: Record<DragAsked["handle"], THREE.BufferGeometry> = {
  // A cradle for a hand or foot, a lozenge to aim at, a band round a joint.
  control: new THREE.EdgesGeometry(new THREE.CylinderGeometry(0.085, 0.085, 0.1, 6)),
  guide: new THREE.OctahedronGeometry(0.034),
  joint: new THREE.TorusGeometry(0.078, 0.008, 6, 26),
};
const bigger = new THREE.SphereGeometry(1, 10, 8);
const scratch = { v: new THREE.Vector3(), q: new THREE.Quaternion(), plane: new THREE.Plane(), n: new THREE.Vector3() };

interface Props {
  info: TakeInfo;
  spec: HandleSpec;
  onHold: (holding: boolean) => void;
}

/** One handle: drawn where it fits the pose, faint while its system is idle; dragging it poses the limb live. */
export function Handle({ info, spec, onHold }: Props) {
  const theme = useTheme();
  const { camera, gl, raycaster, size } = useThree();
  const { letGo } = useActions();
  const group = useRef<THREE.Group>(null);
  const shape = useRef<THREE.Object3D>(null);
  const line = useRef<THREE.Line>(null);
  const material = useMemo(() => {
    const color = spec.side === "left" ? theme.ink.left : spec.side === "right" ? theme.ink.right : theme.ink.accent;
    return spec.handle === "control"
      ? new THREE.LineBasicMaterial({ color, transparent: true, depthTest: false })
      : new THREE.MeshBasicMaterial({ color, transparent: true, depthTest: false });
  }, [spec.side, spec.handle, theme]);
  const thread = useMemo(() => {
    const geometry = new THREE.BufferGeometry().setAttribute("position", new THREE.BufferAttribute(new Float32Array(6), 3));
    const made = new THREE.Line(geometry, new THREE.LineDashedMaterial({ color: (material as THREE.LineBasicMaterial).color, dashSize: 0.035, gapSize: 0.02, transparent: true, depthTest: false }));
    made.frustumCulled = false;
    made.renderOrder = 4;
    made.raycast = () => undefined;
    return made;
  }, [material]);

  useFrame(() => {
    const table = poseNow();
    const g = group.current;
    if (!g || !table) return;
    const k = spec.row * 7;
    g.position.set(table[k]!, table[k + 1]!, table[k + 2]!);
    if (spec.handle === "joint" && spec.to >= 0) {
      const t = spec.to * 7;
      scratch.v.set(table[t]! - table[k]!, table[t + 1]! - table[k + 1]!, table[t + 2]! - table[k + 2]!).normalize();
      g.quaternion.setFromUnitVectors(scratch.n.set(0, 0, 1), scratch.v);
    } else if (spec.handle !== "guide") g.quaternion.set(table[k + 3]!, table[k + 4]!, table[k + 5]!, table[k + 6]!);
    const { frame, focus, playing } = useBench.getState();
    const strand = strandOf(info, spec.ref);
    const driver = strand ? driverAt(strand, frame) : "FK";
    const mine = focus?.member === spec.ref.member && focus.part === spec.ref.part;
    const driving = spec.system === "root" || driver === spec.system || driver === "both";
    g.visible = !playing && (driving || mine);
    material.opacity = driving ? (mine ? 1 : 0.75) : 0.28;
    if (spec.handle === "guide") {
      const places = thread.geometry.getAttribute("position") as THREE.BufferAttribute;
      const t = spec.to * 7;
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
    bench.set({ ...NOTHING, focus: spec.ref, playing: false, held: null });
    onHold(true);
    const k = spec.row * 7;
    const place = new THREE.Vector3(table[k], table[k + 1], table[k + 2]);
    const turn = new THREE.Quaternion(table[k + 3], table[k + 4], table[k + 5], table[k + 6]);
    const toward = camera.getWorldDirection(new THREE.Vector3());
    const plane = new THREE.Plane().setFromNormalAndCoplanarPoint(toward, event.point);
    const start = event.point.clone();
    const down = { x: event.nativeEvent.clientX, y: event.nativeEvent.clientY };
    const turning = bench.turning && spec.handle === "control";
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
      const to = place.clone();
      const q = turn.clone();
      if (turning) {
        const side = new THREE.Vector3().setFromMatrixColumn(camera.matrixWorld, 0);
        const high = new THREE.Vector3().setFromMatrixColumn(camera.matrixWorld, 1);
        q.premultiply(new THREE.Quaternion().setFromAxisAngle(side, (e.clientY - down.y) * 0.01));
        q.premultiply(new THREE.Quaternion().setFromAxisAngle(high, (e.clientX - down.x) * 0.01));
      } else if (spec.handle === "joint") {
        // The bone swings to where the pointer leads it.
        const from = start.clone().sub(place);
        const onto = hit.clone().sub(place);
        if (spec.to >= 0) from.set(table[spec.to * 7]! - place.x, table[spec.to * 7 + 1]! - place.y, table[spec.to * 7 + 2]! - place.z);
        if (spec.to >= 0) onto.copy(from).add(hit.clone().sub(start));
        if (from.lengthSq() > 1e-8 && onto.lengthSq() > 1e-8) q.premultiply(new THREE.Quaternion().setFromUnitVectors(from.normalize(), onto.normalize()));
      } else to.add(hit.sub(start));
      asked = {
        revision: info.revision,
        frame: useBench.getState().frame,
        member: spec.ref.member,
        part: spec.ref.part,
        handle: spec.handle,
        joint: spec.joint,
        position: [to.x, to.y, to.z],
        rotation: [q.x, q.y, q.z, q.w],
      };
      live.drag(info.id, asked);
    };
    const stop = (keep: boolean) => {
      window.removeEventListener("pointermove", move);
      window.removeEventListener("pointerup", release);
      window.removeEventListener("keydown", cancel, true);
      onHold(false);
      live.end();
      if (asked && keep) void letGo(asked);
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
        {spec.handle === "control" ? (
          <lineSegments ref={shape as React.RefObject<THREE.LineSegments>} geometry={forms.control} material={material} renderOrder={5} />
        ) : (
          <mesh ref={shape as React.RefObject<THREE.Mesh>} geometry={forms[spec.handle]} material={material} renderOrder={5} />
        )}
        <mesh geometry={bigger} scale={spec.handle === "joint" ? 0.05 : 0.085} onPointerDown={grab}>
          <meshBasicMaterial transparent opacity={0} depthWrite={false} />
        </mesh>
      </group>
      {spec.handle === "guide" && <primitive ref={line} object={thread} />}
    </>
  );
}
