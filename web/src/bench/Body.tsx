import { useFrame } from "@react-three/fiber";
import { useEffect, useMemo, useRef } from "react";
import * as THREE from "three";
import type { Member, TakeInfo } from "../shared/api";
import { same as sameRef, useBench, type PartRef } from "./state";

type Getter = () => Float32Array | null;

const round = new THREE.SphereGeometry(1, 20, 14);
const up = new THREE.Vector3(0, 1, 0);

/** A capsule from a to b whose ends may differ in thickness. */
function taper(a: THREE.Vector3, b: THREE.Vector3, ra: number, rb: number): THREE.BufferGeometry {
  const length = a.distanceTo(b);
  const profile: THREE.Vector2[] = [];
  for (let i = 0; i <= 5; i++) {
    const t = -Math.PI / 2 + (i / 5) * (Math.PI / 2);
    profile.push(new THREE.Vector2(Math.max(ra * Math.cos(t), 1e-5), ra * Math.sin(t)));
  }
  for (let i = 0; i <= 5; i++) {
    const t = (i / 5) * (Math.PI / 2);
    profile.push(new THREE.Vector2(Math.max(rb * Math.cos(t), 1e-5), length + rb * Math.sin(t)));
  }
  const geometry = new THREE.LatheGeometry(profile, 16);
  const turn = new THREE.Quaternion().setFromUnitVectors(up, b.clone().sub(a).normalize());
  return geometry.applyQuaternion(turn).translate(a.x, a.y, a.z);
}

function geometryOf(shape: Member["shapes"][number]): THREE.BufferGeometry {
  const a = new THREE.Vector3(...shape.a);
  const b = new THREE.Vector3(...shape.b);
  const turn = new THREE.Quaternion(...shape.turn);
  const [s0 = 0.05, s1 = s0, s2 = s0] = shape.size;
  if (shape.form === "capsule") return taper(a, b, s0, s1);
  if (shape.form === "ball") return round.clone().scale(s0, s1, s2).applyQuaternion(turn).translate(a.x, a.y, a.z);
  if (shape.form === "block") return new THREE.BoxGeometry(s0, s1, s2).applyQuaternion(turn).translate(a.x, a.y, a.z);
  const ring = new THREE.TorusGeometry(s0, s1, 10, 28);
  const axis = new THREE.Quaternion().setFromUnitVectors(new THREE.Vector3(0, 0, 1), b.clone().normalize());
  return ring.applyQuaternion(axis).translate(a.x, a.y, a.z);
}

const materials = new Map<string, THREE.Material>();

function materialOf(colour: string): THREE.Material {
  let material = materials.get(colour);
  if (!material) {
    material = new THREE.MeshLambertMaterial({ color: colour });
    materials.set(colour, material);
  }
  return material;
}

/** What is not looked at, where one part is looked at alone. */
const faint = new THREE.MeshLambertMaterial({ color: "#a8a294", transparent: true, opacity: 0.1, depthWrite: false });

/** Whether a joint stands in the same place in two poses, to a tenth of a millimetre or so. */
function same(a: Float32Array, b: Float32Array, k: number): boolean {
  let off = 0;
  for (let i = 0; i < 7; i++) off = Math.max(off, Math.abs(a[k + i]! - b[k + i]!));
  return off < 2e-4;
}

interface FigureProps {
  info: TakeInfo;
  pose: Getter;
  /** Drawn in one clear colour: the result of a trial, or another revision. */
  ghost?: string;
  /** Only this part is drawn in full; everything else is faint. */
  alone?: PartRef | null;
  /** A piece was clicked: its part and its joint, as "member/joint". */
  onPick?: (part: PartRef, joint: string) => void;
  /** Whether set pieces can be picked too. */
  pickSet?: boolean;
}

/** The bodies of the cast, one group a joint, placed from the newest pose each time the picture is drawn. */
export function Figures({ info, pose, ghost, alone, onPick, pickSet }: FigureProps) {
  const groups = useRef<(THREE.Group | null)[]>([]);
  const pieces = useMemo(() => {
    const index = new Map(info.joints.map(([m, j], i) => [`${m}/${j}`, i]));
    return info.members.flatMap((member) =>
      member.shapes
        .filter(() => !ghost || member.kind !== "set")
        .map((shape) => ({
          joint: index.get(`${member.id}/${shape.joint}`)!,
          part: { member: member.id, part: member.parts.find((p) => p.joints.includes(shape.joint))?.name ?? "" },
          name: `${member.id}/${shape.joint}`,
          pickable: member.kind !== "set",
          geometry: geometryOf(shape),
          colour: shape.colour,
        })),
    );
    // Geometry depends on the cast alone, which a take keeps.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [info.id, ghost]);
  const clear = useMemo(
    () => (ghost ? new THREE.MeshLambertMaterial({ color: ghost, transparent: true, opacity: 0.42, depthWrite: false }) : null),
    [ghost],
  );
  useEffect(() => () => pieces.forEach((p) => p.geometry.dispose()), [pieces]);

  useFrame(() => {
    const table = pose();
    const now = ghost ? poseNow() : null;
    pieces.forEach((piece, i) => {
      const group = groups.current[i];
      if (!group) return;
      group.visible = table !== null;
      if (!table) return;
      const k = piece.joint * 7;
      if (ghost && now && same(table, now, k)) {
        // Only what the trial moves is worth a ghost.
        group.visible = false;
        return;
      }
      group.position.set(table[k]!, table[k + 1]!, table[k + 2]!);
      group.quaternion.set(table[k + 3]!, table[k + 4]!, table[k + 5]!, table[k + 6]!);
    });
  });

  return pieces.map((piece, i) => (
    <group key={i} ref={(g) => void (groups.current[i] = g)}>
      <mesh
        geometry={piece.geometry}
        material={clear ?? (alone && !sameRef(alone, piece.part) ? faint : materialOf(piece.colour))}
        renderOrder={clear ? 2 : 0}
        onClick={
          onPick && (piece.pickable || pickSet)
            ? (event) => {
                if (event.delta > 4) return;
                event.stopPropagation();
                onPick(piece.part, piece.name);
              }
            : undefined
        }
      />
    </group>
  ));
}

interface SketchProps {
  info: TakeInfo;
  pose: Getter;
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
    <lineSegments ref={lines} geometry={geometry} frustumCulled={false} renderOrder={3}>
      <lineBasicMaterial color={color} transparent opacity={opacity} depthTest={false} />
    </lineSegments>
  );
}

/** The pose now: what is dragged, else the take at the current frame. */
export function poseNow(shift = 0): Float32Array | null {
  const { live, bank, info, frame } = useBench.getState();
  if (!bank || !info) return null;
  if (live && shift === 0) return live;
  const at = frame + shift;
  return at < info.first || at > info.last ? null : bank.at(`revision-${info.revision}`, at);
}

/** The pose of the revision that is drawn beside this one. */
export function poseBeside(): Float32Array | null {
  const { beside, bank, frame } = useBench.getState();
  return beside !== null && bank ? bank.at(`revision-${beside}`, frame) : null;
}

/** The pose of one frame of the take in hand. */
export function poseAt(frame: number): Float32Array | null {
  const { bank, info } = useBench.getState();
  return bank && info ? bank.at(`revision-${info.revision}`, frame) : null;
}

/** The pose of the trial in hand, at the current frame. */
export function poseTried(): Float32Array | null {
  const { trial, bank, frame } = useBench.getState();
  return trial && bank ? bank.at(`trial-${trial.trial}`, frame) : null;
}
