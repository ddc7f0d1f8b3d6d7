// An independent reader: loads a GLB file with three.js and prints where its joints are at the given seconds.
// node read_glb.mjs FILE TIMES.json → {"names": [...], "places": [[[x, y, z], …], …], "triangles": n}
import { readFileSync } from "node:fs";
import { AnimationMixer, LoopOnce, Vector3 } from "three";
import { GLTFLoader } from "three/examples/jsm/loaders/GLTFLoader.js";

globalThis.self = globalThis;
const [file, list] = process.argv.slice(2);
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
const joints = gltf.parser.json.skins ? gltf.parser.json.skins[0].joints : gltf.parser.json.nodes.map((_, i) => i);
const places = JSON.parse(readFileSync(list, "utf8")).map((t) => {
  mixer.setTime(t);
  gltf.scene.updateMatrixWorld(true);
  return joints.map((j) => bones[j].getWorldPosition(new Vector3()).toArray());
});
process.stdout.write(JSON.stringify({ names: joints.map((j) => gltf.parser.json.nodes[j].name), places, triangles }));
