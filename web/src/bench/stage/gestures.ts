import * as THREE from "three";

/** What a gesture makes of a control's place and rotation: pure functions of where the pointer's line meets the picture. */
export interface Put {
  place: THREE.Vector3;
  turn: THREE.Quaternion;
}

/** Radians that one pixel turns. */
const PER_PIXEL = 0.01;

/** Moved by as much as the pointer went. */
export function moved(from: Put, start: THREE.Vector3, hit: THREE.Vector3): Put {
  return { place: from.place.clone().add(hit).sub(start), turn: from.turn.clone() };
}

/** Turned about the picture's own axes by pixels across and down. */
export function turned(from: Put, camera: THREE.Camera, across: number, down: number): Put {
  const side = new THREE.Vector3().setFromMatrixColumn(camera.matrixWorld, 0);
  const high = new THREE.Vector3().setFromMatrixColumn(camera.matrixWorld, 1);
  const turn = new THREE.Quaternion().setFromAxisAngle(high, across * PER_PIXEL).multiply(new THREE.Quaternion().setFromAxisAngle(side, down * PER_PIXEL));
  return { place: from.place.clone(), turn: turn.multiply(from.turn) };
}

/** Swung about its place so that its bone, whose end is at `tip` (the pointer's own start where it has none), follows the
 * pointer. */
export function swung(from: Put, tip: THREE.Vector3 | null, start: THREE.Vector3, hit: THREE.Vector3): Put {
  const bone = (tip ?? start).clone().sub(from.place);
  const onto = tip ? bone.clone().add(hit).sub(start) : hit.clone().sub(from.place);
  const turn = from.turn.clone();
  if (bone.lengthSq() > 1e-8 && onto.lengthSq() > 1e-8) turn.premultiply(new THREE.Quaternion().setFromUnitVectors(bone.normalize(), onto.normalize()));
  return { place: from.place.clone(), turn };
}

/** What others in hand do as one is put elsewhere: they move and turn with it, each about its own place. */
export function along(other: Put, from: Put, to: Put): Put {
  const turn = to.turn.clone().multiply(from.turn.clone().invert());
  return { place: other.place.clone().add(to.place).sub(from.place), turn: turn.multiply(other.turn) };
}

/** What others in hand do as they are turned about a place: as if they were one with it. */
export function about(other: Put, from: Put, to: Put): Put {
  const turn = to.turn.clone().multiply(from.turn.clone().invert());
  return { place: other.place.clone().sub(from.place).applyQuaternion(turn).add(to.place), turn: turn.multiply(other.turn) };
}
