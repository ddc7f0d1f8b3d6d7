// An independent reader: loads GLB files with three.js and prints a line for each of where its joints are at the given seconds.
// node read_glb.mjs ASKED.json, of [[file, [seconds, …]], …] → {"names": [...], "places": [[[x, y, z], …], …], "triangles": n}
import { readFileSync } from "node:fs";
import { AnimationMixer, LoopOnce, Vector3 } from "three";
import { GLTFLoader } from "three/examples/jsm/loaders/GLTFLoader.js";

globalThis.self = globalThis;
for (const [file, times] of JSON.parse(readFileSync(process.argv[2], "utf8"))) {
  const data = readFileSync(file);
  const buffer = data.buffer.slice(data.byteOffset, data.byteOffset + data.byteLength);
  const gltf = await new GLTFLoader().parseAsync(buffer, "");
  const mixer = new AnimationMixer(gltf.scene);
  const action = mixer.clipAction(gltf.animations[0]);
  action.setLoop(LoopOnce);
  action.clampWhenFinished = true;
  action.play();
  const bones = [];
  let triangles = 0;
  gltf.scene.traverse((o) => {
    if (o.isMesh) triangles += o.geometry.index.count / 3;
  });
  gltf.scene.traverse((o) => {
    const node = gltf.parser.associations.get(o)?.nodes;
    if (node !== undefined && !o.isMesh) bones[node] = o;
  });
  const { nodes, skins } = gltf.parser.json;
  const joints = skins ? skins[0].joints : nodes.map((_, i) => i);
  const places = times.map((t) => {
    mixer.setTime(t);
    gltf.scene.updateMatrixWorld(true);
    return joints.map((j) => bones[j].getWorldPosition(new Vector3()).toArray());
  });
  process.stdout.write(`${JSON.stringify({ names: joints.map((j) => nodes[j].name), places, triangles })}\n`);
}
