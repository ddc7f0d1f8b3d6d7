// An independent reader: loads BVH files with three.js and prints a line for each of where its joints are at each sample.
// node read_bvh.mjs FILE… → {"names": [...], "places": [[[x, y, z], …], …]}
import { readFileSync } from "node:fs";
import { AnimationMixer, LoopOnce, Vector3 } from "three";
import { BVHLoader } from "three/examples/jsm/loaders/BVHLoader.js";

for (const file of process.argv.slice(2)) {
  const { skeleton, clip } = new BVHLoader().parse(readFileSync(file, "utf8"));
  const root = skeleton.bones[0];
  const mixer = new AnimationMixer(root);
  const action = mixer.clipAction(clip);
  action.setLoop(LoopOnce);
  action.clampWhenFinished = true;
  action.play();
  const bones = skeleton.bones.filter((b) => b.name !== "ENDSITE");
  const places = [...clip.tracks[0].times].map((t) => {
    mixer.setTime(t);
    root.updateMatrixWorld(true);
    return bones.map((b) => b.getWorldPosition(new Vector3()).toArray());
  });
  process.stdout.write(`${JSON.stringify({ names: bones.map((b) => b.name), places })}\n`);
}
