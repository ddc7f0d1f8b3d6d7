import * as THREE from "three";
import { expect, test } from "vitest";
import { alike, dragStep } from "../../src/bench/card/channels";
import { placeOf, searchOf } from "../../src/bench/address";
import { about, along, moved, swung, turned } from "../../src/bench/stage/gestures";

const from = { place: new THREE.Vector3(0.2, 1, -0.3), turn: new THREE.Quaternion().setFromEuler(new THREE.Euler(0.3, -1, 0.4)) };

test("moving keeps the turn, turning and swinging keep the place", () => {
  const [start, hit] = [new THREE.Vector3(0, 1, 0), new THREE.Vector3(0.1, 1.2, 0)];
  expect(moved(from, start, hit).place.distanceTo(new THREE.Vector3(0.3, 1.2, -0.3))).toBeLessThan(1e-12);
  expect(moved(from, start, hit).turn.angleTo(from.turn)).toBeLessThan(1e-7);
  const camera = new THREE.PerspectiveCamera();
  camera.updateMatrixWorld();
  expect(turned(from, camera, 20, -7).place).toEqual(from.place);
  expect(turned(from, camera, 50, 0).turn.angleTo(from.turn)).toBeCloseTo(0.5, 6);
  expect(swung(from, null, start, hit).place).toEqual(from.place);
});

test("a swung bone points where the pointer leads it", () => {
  const tip = new THREE.Vector3(0.2, 0.7, -0.3);
  const [start, hit] = [new THREE.Vector3(0.2, 0.8, -0.3), new THREE.Vector3(0.35, 0.85, -0.2)];
  const { turn } = swung(from, tip, start, hit);
  const bone = tip.clone().sub(from.place).applyQuaternion(from.turn.clone().invert()).applyQuaternion(turn);
  const wanted = tip.clone().add(hit).sub(start).sub(from.place);
  expect(bone.angleTo(wanted)).toBeLessThan(1e-6);
});

test("what is in hand with it keeps its place and turn relative to nothing but the change", () => {
  const other = { place: new THREE.Vector3(1, 2, 3), turn: new THREE.Quaternion().setFromEuler(new THREE.Euler(1, 0, 0.5)) };
  expect(along(other, from, from).turn.angleTo(other.turn)).toBeLessThan(1e-7);
  const to = { place: from.place.clone().add(new THREE.Vector3(0, 0.1, 0)), turn: new THREE.Quaternion().setFromAxisAngle(new THREE.Vector3(0, 1, 0), 0.2).multiply(from.turn) };
  const went = along(other, from, to);
  expect(went.place.distanceTo(new THREE.Vector3(1, 2.1, 3))).toBeLessThan(1e-12);
  expect(went.turn.angleTo(other.turn)).toBeCloseTo(0.2, 6);
});

test("about a place others are turned as if they were one with it", () => {
  const other = { place: from.place.clone().add(new THREE.Vector3(0, -0.4, 0.1)), turn: new THREE.Quaternion().setFromEuler(new THREE.Euler(1, 0, 0.5)) };
  const quarter = new THREE.Quaternion().setFromAxisAngle(new THREE.Vector3(1, 0, 0), Math.PI / 2);
  const went = about(other, from, { place: from.place, turn: quarter.clone().multiply(from.turn) });
  expect(went.place.distanceTo(from.place.clone().add(new THREE.Vector3(0, -0.1, -0.4)))).toBeLessThan(1e-12);
  expect(went.turn.angleTo(quarter.clone().multiply(other.turn))).toBeLessThan(1e-7);
});

test("values typed for one in hand go to all in hand, to no other", () => {
  const hand = [{ member: "marl", part: "arm.L", control: "arm.L.ik" }, { member: "marl", part: "arm.R", control: "arm.R.ik" }];
  expect(alike("marl/arm.L.ik.tx", hand)).toEqual(["marl/arm.L.ik.tx", "marl/arm.R.ik.tx"]);
  expect(alike("marl/leg.L.ik.tx", hand)).toEqual(["marl/leg.L.ik.tx"]);
  expect(dragStep("rad", true)).toBeCloseTo(dragStep("rad", false) / 10, 12);
});

test("a link tells its frame and part, and odd ones are read as telling nothing", () => {
  const place = { frame: 118, part: { member: "marl", part: "arm.R" } };
  expect(placeOf(searchOf(place))).toEqual(place);
  expect(placeOf(searchOf({ frame: null, part: null }))).toEqual({ frame: null, part: null });
  expect(placeOf("?frame=twelve&part=marl")).toEqual({ frame: null, part: null });
  const odd = { frame: -3, part: { member: "a&b", part: "c/d=e" } };
  expect(placeOf(searchOf(odd))).toEqual(odd);
});
