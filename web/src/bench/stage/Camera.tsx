import { useFrame, useThree } from "@react-three/fiber";
import { useEffect, useMemo, useRef } from "react";
import type * as THREE from "three";
import { OrbitControls } from "three-stdlib";
import type { TakeInfo } from "../../shared/api";
import { useBench } from "../state";
import { carried, insetOf, mountStage, reframed, rowOf, spotsAlong, stage, through, viewed, type Subject } from "./viewpoints";
import { placed } from "./geometry";
import { poseAt, poseNow } from "./poses";

/** The character that the view is about: that of the part in hand, else the first. */
export function bodyOf(info: TakeInfo): string {
  const { focus } = useBench.getState();
  const characters = info.members.filter((m) => m.kind === "character");
  return (characters.find((m) => m.id === focus?.member) ?? characters[0] ?? info.members[0]!).id;
}

/** The side of x on which the part in hand is: 1 or -1. */
function handSide(info: TakeInfo): 1 | -1 {
  const table = poseNow();
  const { focus } = useBench.getState();
  const member = info.members.find((m) => m.id === focus?.member);
  const joint = member?.parts.find((p) => p.name === focus?.part)?.joints[0];
  if (!table || !member || !joint) return 1;
  return placed(table, rowOf(info, member.id, joint)).pos.x < placed(table, rowOf(info, member.id, member.centre)).pos.x ? -1 : 1;
}

/** Poses about the current frame, as far as they are here: what the body will reach while it is watched. */
function someFrames(info: TakeInfo): Float32Array[] {
  const { frame } = useBench.getState();
  const frames = Array.from({ length: 17 }, (_, k) => frame + 15 * (k - 8)).filter((f) => f >= info.first && f <= info.last);
  return frames.flatMap((f) => poseAt(f) ?? []);
}

/** How long after a placing poses that arrive may still move the camera further back, milliseconds. */
const SETTLING = 1500;

/** Row of what the camera goes with, or -1. */
function anchorRow(info: TakeInfo, goesWith: string): number {
  if (!goesWith) return -1;
  if (goesWith === "body") {
    const id = bodyOf(info);
    return rowOf(info, id, info.members.find((m) => m.id === id)!.centre);
  }
  const [member = "", joint = ""] = goesWith.split("/");
  return rowOf(info, member, joint);
}

/** Puts the camera where it is asked to be, and carries it along with what it goes with. */
export function Camera({ info, held }: { info: TakeInfo; held: boolean }) {
  const { camera, size, gl, events, invalidate } = useThree();
  const controls = useMemo(() => {
    const made = new OrbitControls(camera as THREE.PerspectiveCamera);
    made.enableDamping = false;
    made.minDistance = 0.25;
    made.maxDistance = 60;
    return made;
  }, [camera]);
  // What moves the camera while a picture is drawn is in that picture already.
  const drawing = useRef(false);
  const placedFor = useRef({ view: "", poses: 0, since: 0 });
  const answered = useRef<object | null>(null);
  const last = useRef<{ key: string; at: ReturnType<typeof placed> } | null>(null);
  const viewpoint = useBench((s) => s.viewpoint);
  const asked = useBench((s) => s.framing);
  const goesWith = useBench((s) => s.goesWith);

  useEffect(() => {
    const changed = () => drawing.current || invalidate();
    const began = () => {
      placedFor.current.since = -Infinity;
      const { viewpoint, set } = useBench.getState();
      // Whoever turns the view leaves the camera that it was looked through, from where it is.
      if (viewpoint.through) set({ viewpoint: { name: "free", again: viewpoint.again + 1, kept: { position: camera.position.toArray(), target: controls.target.toArray() } } });
    };
    controls.connect((events.connected as HTMLElement | undefined) ?? gl.domElement);
    controls.addEventListener("change", changed);
    controls.addEventListener("start", began);
    mountStage({ camera: camera as THREE.PerspectiveCamera, controls, redraw: invalidate });
    return () => {
      mountStage(null);
      // What was asked of this camera is not asked of the next.
      useBench.getState().set({ framing: null });
      controls.removeEventListener("change", changed);
      controls.removeEventListener("start", began);
      controls.dispose();
    };
  }, [camera, controls, events.connected, gl, invalidate]);
  useEffect(() => {
    controls.enabled = !held;
  }, [controls, held]);

  const updated = () => {
    drawing.current = true;
    controls.update();
    drawing.current = false;
  };

  useFrame(() => {
    const table = poseNow();
    const here = stage();
    if (!table || !here) return;
    const inset = insetOf(size.width, size.height);
    const row = anchorRow(info, goesWith);
    const at = row < 0 ? null : placed(table, row);
    const key = `${info.id} ${goesWith} ${row}`;
    const { live } = useBench.getState();
    const eye = viewpoint.through ? info.members.find((m) => m.id === viewpoint.through) : undefined;
    if (eye) {
      through(here, placed(table, rowOf(info, eye.id, eye.centre)));
      placedFor.current.view = `${info.id}:${viewpoint.name}:${viewpoint.again}`;
      last.current = null;
      updated();
      return;
    }
    if (at && last.current?.key === key && !live) carried(here, last.current.at, at, goesWith === "body");
    if (!live) last.current = at && { key, at };
    if (goesWith === "body" || !goesWith) camera.up.set(0, 1, 0);
    const wanted = `${info.id}:${viewpoint.name}:${viewpoint.again}`;
    const now = performance.now();
    // Whoever has begun to work is not moved.
    if (held) placedFor.current.since = -Infinity;
    const fresh = placedFor.current.view !== wanted;
    const poses = (fresh || now - placedFor.current.since < SETTLING) && goesWith === "body" ? someFrames(info) : [];
    if (fresh || poses.length > placedFor.current.poses) {
      placedFor.current = { view: wanted, poses: poses.length, since: fresh ? now : placedFor.current.since };
      camera.up.set(0, 1, 0);
      const member = bodyOf(info);
      const { position, target } = viewed(info, table, { member }, viewpoint.name, here.camera, inset, handSide(info), spotsAlong(info, member, table, poses));
      const found = viewpoint.kept ?? { position: position.toArray(), target: target.toArray() };
      camera.position.set(...found.position);
      here.controls.target.set(...found.target);
    }
    if (asked && asked !== answered.current) {
      const { focus } = useBench.getState();
      const subject: Subject = asked.what === "all" ? "all" : asked.what === "part" && focus ? { part: focus, from: asked.from } : { member: bodyOf(info), more: asked.more };
      reframed(info, table, subject, here, inset);
      // What arrives later does not move it again.
      placedFor.current.since = -Infinity;
    }
    answered.current = asked;
    updated();
  });
  return null;
}
