// The Khronos validator: node validate_glb.mjs FILE… → one JSON line of issues a file.
import { readFileSync } from "node:fs";
import { validateBytes } from "gltf-validator";

for (const file of process.argv.slice(2)) {
  const report = await validateBytes(new Uint8Array(readFileSync(file)));
  console.log(JSON.stringify(report.issues));
}
