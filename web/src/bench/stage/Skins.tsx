import { useFrame } from "@react-three/fiber";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo } from "react";
import * as THREE from "three";
import { GLTFLoader } from "three/examples/jsm/loaders/GLTFLoader.js";
import { bodyAt, type TakeInfo } from "../../shared/api";
import { bytes } from "../../shared/early";
import { sizeAt } from "./geometry";
import { poseNow } from "./poses";
import { rowOf } from "./viewpoints";

interface Body {
  meshes: THREE.SkinnedMesh[];
  bones: THREE.Bone[];
}

/** A character's skin, as the service makes it: one mesh a tone, carried by bones in the order of its joints. */
async function loaded(take: number, member: string): Promise<Body> {
  const gltf = await new GLTFLoader().parseAsync(await bytes(bodyAt(take, member)), "");
  const meshes: THREE.SkinnedMesh[] = [];
  gltf.scene.traverse((o) => o instanceof THREE.SkinnedMesh && meshes.push(o));
  const bones = meshes[0]?.skeleton.bones ?? [];
  for (const mesh of meshes) {
    const { color } = mesh.material as THREE.MeshStandardMaterial;
    mesh.material = new THREE.MeshLambertMaterial({ color });
    mesh.removeFromParent();
    // Its bones are put where the poses say, in the world.
    mesh.bindMode = "detached";
    mesh.bind(mesh.skeleton, new THREE.Matrix4());
    mesh.frustumCulled = false;
    mesh.raycast = () => undefined;
  }
  return { meshes, bones };
}

/** Skins of the characters whose bodies have arrived; the others are drawn in pieces until then. */
export function useSkins(info: TakeInfo): Map<string, Body> {
  const members = useMemo(() => info.members.filter((m) => m.kind === "character" && m.shapes.length > 0).map((m) => m.id), [info]);
  const found = useQuery({
    queryKey: ["skins", info.scene_id, members.join(" ")],
    queryFn: async () => new Map(await Promise.all(members.map(async (id) => [id, await loaded(info.id, id)] as const))),
    staleTime: Infinity,
    gcTime: 60_000,
    retry: 1,
  });
  return found.data ?? EMPTY;
}

const EMPTY = new Map<string, Body>();

/** The skins of the cast in the newest pose. */
export function Skins({ info, skins }: { info: TakeInfo; skins: Map<string, Body> }) {
  return [...skins].map(([id, body]) => <Skin key={id} info={info} member={id} body={body} />);
}

const size = new THREE.Vector3();
const place = new THREE.Vector3();
const turn = new THREE.Quaternion();

function Skin({ info, member, body }: { info: TakeInfo; member: string; body: Body }) {
  const rows = useMemo(() => (info.members.find((m) => m.id === member)?.joints ?? []).map((j) => rowOf(info, member, j)), [info, member]);
  useFrame(() => {
    const table = poseNow();
    for (const mesh of body.meshes) mesh.visible = table !== null;
    if (!table) return;
    size.setScalar(table[sizeAt(info, member)]!);
    body.bones.forEach((bone, k) => {
      const at = rows[k]! * 7;
      place.set(table[at]!, table[at + 1]!, table[at + 2]!);
      turn.set(table[at + 3]!, table[at + 4]!, table[at + 5]!, table[at + 6]!);
      bone.matrixWorld.compose(place, turn, size);
    });
  });
  // The view is left: what the card drew them with goes, the bodies stay for the next visit.
  useEffect(() => () => body.meshes.forEach((m) => m.skeleton.dispose()), [body]);
  return body.meshes.map((mesh) => <primitive key={mesh.uuid} object={mesh} dispose={null} />);
}
