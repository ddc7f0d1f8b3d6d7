import { useFrame } from "@react-three/fiber";
import { useEffect, useMemo, useRef, useState } from "react";
import * as THREE from "three";
import type { TakeInfo } from "../../shared/api";
import { same as sameRef, useBench, type PartRef } from "../state";
import { stage } from "./viewpoints";
import { meets } from "./framing";
import { geometryOf, placed, sizeAt, solidOf } from "./geometry";
import { poseNow } from "./poses";

type Getter = () => Float32Array | null;

const materials = new Map<string, THREE.Material>();

function materialOf(colour: string): THREE.Material {
  let material = materials.get(colour);
  if (!material) {
    material = new THREE.MeshLambertMaterial({ color: colour });
    materials.set(colour, material);
  }
  return material;
}

/** What stands between the camera and the part in hand: the same colour, seen through. */
const glass = new Map<string, THREE.Material>();

function glassOf(colour: string): THREE.Material {
  let material = glass.get(colour);
  if (!material) {
    material = new THREE.MeshLambertMaterial({ color: colour, transparent: true, opacity: 0.22, depthWrite: false });
    glass.set(colour, material);
  }
  return material;
}

/** What is only there to be clicked. */
const unseen = new THREE.MeshBasicMaterial({ visible: false });

/** What is not looked at, where one part is looked at alone. */
const faint = new THREE.MeshLambertMaterial({ color: "#a8a294", transparent: true, opacity: 0.1, depthWrite: false });

/** Whether a joint stands in the same place in two poses, to a tenth of a millimetre or so. */
function same(a: Float32Array, b: Float32Array, k: number): boolean {
  let off = 0;
  for (let i = 0; i < 7; i++) off = Math.max(off, Math.abs(a[k + i]! - b[k + i]!));
  return off < 2e-4;
}

/** Rows of the joints of a part. */
function rowsOf(info: TakeInfo, part: PartRef | null): number[] {
  const joints = info.members.find((m) => m.id === part?.member)?.parts.find((p) => p.name === part?.part)?.joints ?? [];
  return joints.map((j) => info.joints.findIndex(([m, n]) => m === part?.member && n === j)).filter((r) => r >= 0);
}

/** Whether a piece stands between the camera and some of these joints. */
function hides(shape: TakeInfo["members"][number]["shapes"][number], group: THREE.Group, table: Float32Array, rows: number[]): boolean {
  const camera = stage()?.camera.position;
  if (!camera || !rows.length) return false;
  const solid = solidOf(shape, group.position, group.quaternion, group.scale.x);
  return rows.some((row) => meets(solid, placed(table, row).pos, camera));
}

/** What lights up under the pointer, and is not itself in its way. */
const shining = new THREE.MeshBasicMaterial({ color: "#f2c14e", transparent: true, opacity: 0.6, depthTest: false, depthWrite: false });
const nothing = () => undefined;

interface FigureProps {
  info: TakeInfo;
  pose: Getter;
  /** Drawn in one clear colour: the result of a trial, or another revision. */
  ghost?: string;
  /** Only this part is drawn in full; everything else is faint. */
  alone?: PartRef | null;
  /** A piece was clicked: its part and its joint, as "member/joint". */
  onPick?: (part: PartRef, joint: string, at: THREE.Vector3) => void;
  /** Whether set pieces can be picked too. */
  pickSet?: boolean;
  /** What the pointer is over lights up; it is told as "member/joint" with where it is on the page. */
  onPoint?: (joint: string | null, x: number, y: number) => void;
  /** Characters that have a skin: their pieces are there to be clicked, not to be seen. */
  skinned?: ReadonlyMap<string, unknown>;
  /** What must not be hidden: set pieces before it are seen through. */
  clearFor?: PartRef | null;
}

/** What the bodies of the cast are made of, but for one of its members: a ghost has no set pieces. */
function usePieces(info: TakeInfo, ghost: boolean, without: string | undefined) {
  const pieces = useMemo(() => {
    const index = new Map(info.joints.map(([m, j], i) => [`${m}/${j}`, i]));
    return info.members.flatMap((member) =>
      member.shapes
        .filter(() => (!ghost || member.kind !== "set") && member.id !== without)
        .map((shape) => ({
          joint: index.get(`${member.id}/${shape.joint}`)!,
          size: sizeAt(info, member.id),
          part: { member: member.id, part: member.parts.find((p) => p.joints.includes(shape.joint))?.name ?? "" },
          name: `${member.id}/${shape.joint}`,
          pickable: member.kind !== "set",
          shape,
          geometry: geometryOf(shape),
          colour: shape.colour,
        })),
    );
    // Geometry depends on the cast alone, which a take keeps.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [info.id, ghost, without]);
  useEffect(() => () => pieces.forEach((p) => p.geometry.dispose()), [pieces]);
  return pieces;
}

/** The bodies of the cast, one group a joint, placed from the newest pose each time the picture is drawn. */
export function Figures({ info, pose, ghost, alone, onPick, pickSet, onPoint, clearFor, skinned }: FigureProps) {
  const groups = useRef<(THREE.Group | null)[]>([]);
  const [lit, setLit] = useState<string | null>(null);
  const seen = useMemo(() => rowsOf(info, clearFor ?? null), [info, clearFor]);
  // Whoever looks through a camera does not see it.
  const through = useBench((s) => s.viewpoint.through);
  const pieces = usePieces(info, ghost !== undefined, through);
  const clear = useMemo(
    () => (ghost ? new THREE.MeshLambertMaterial({ color: ghost, transparent: true, opacity: 0.42, depthWrite: false }) : null),
    [ghost],
  );

  useFrame(() => {
    const table = pose();
    const now = ghost ? poseNow() : null;
    pieces.forEach((piece, i) => {
      const group = groups.current[i];
      if (!group) return;
      group.visible = table !== null;
      if (!table) return;
      const k = piece.joint * 7;
      if (ghost && now && same(table, now, k) && table[piece.size] === now[piece.size]) {
        // Only what the trial moves is worth a ghost.
        group.visible = false;
        return;
      }
      group.position.set(table[k]!, table[k + 1]!, table[k + 2]!);
      group.quaternion.set(table[k + 3]!, table[k + 4]!, table[k + 5]!, table[k + 6]!);
      group.scale.setScalar(table[piece.size]!);
      if (ghost || alone || piece.pickable) return;
      const mesh = group.children[0] as THREE.Mesh;
      mesh.material = hides(piece.shape, group, table, seen) ? glassOf(piece.colour) : materialOf(piece.colour);
    });
  });

  const pointing = onPoint !== undefined;
  const over = pointing ? lit : null;
  return pieces.map((piece, i) => (
    <group key={i} ref={(g) => void (groups.current[i] = g)}>
      <mesh
        geometry={piece.geometry}
        material={clear ?? (skinned?.has(piece.part.member) ? unseen : alone && !sameRef(alone, piece.part) ? faint : materialOf(piece.colour))}
        renderOrder={clear ? 2 : 0}
        onClick={
          onPick && (piece.pickable || pickSet)
            ? (event) => {
                if (event.delta > 4) return;
                event.stopPropagation();
                onPick(piece.part, piece.name, event.point);
              }
            : undefined
        }
        onPointerMove={
          pointing
            ? (event) => {
                event.stopPropagation();
                setLit(piece.name);
                onPoint(piece.name, event.clientX, event.clientY);
              }
            : undefined
        }
        onPointerOut={
          pointing
            ? () => {
                setLit(null);
                onPoint(null, 0, 0);
              }
            : undefined
        }
      />
      {over === piece.name && <mesh geometry={piece.geometry} material={shining} renderOrder={3} raycast={nothing} />}
    </group>
  ));
}
