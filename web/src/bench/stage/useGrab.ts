import { useThree, type ThreeEvent } from "@react-three/fiber";
import type { RefObject } from "react";
import * as THREE from "three";
import type { DragAsked, HandleInfo, TakeInfo } from "../../shared/api";
import { holdOn } from "../../shared/drag";
import { useActions } from "../actions";
import { live } from "../live";
import { NOTHING, same, sameHandle, useBench } from "../state";
import { placed } from "./geometry";
import { about, along, moved, swung, turned, type Put } from "./gestures";
import { poseNow } from "./poses";

const putOf = (table: Float32Array, row: number): Put => {
  const { pos, rot } = placed(table, row);
  return { place: pos, turn: rot };
};
const told = ({ place, turn }: Put): Pick<DragAsked, "position" | "rotation"> => ({ position: [place.x, place.y, place.z], rotation: [turn.x, turn.y, turn.z, turn.w] });
/** Taking hold of a handle: dragging it, and what is in hand with it, poses the parts live; with Shift it is one more in hand. Turned,
 * a place of the animator's own turns what is in hand with it about itself; a point always turns its control. */
export function useGrab(info: TakeInfo, spec: HandleInfo, group: RefObject<THREE.Group | null>, onHold: (holding: boolean) => void) {
  const { camera, gl, raycaster, size } = useThree();
  const { letGo } = useActions();
  return (event: ThreeEvent<PointerEvent>) => {
    if (event.button !== 0 || !group.current?.visible) return;
    // Of several under the pointer that of the part in hand goes first, behind others too.
    const { focus } = useBench.getState();
    const ofFocus = ({ eventObject: { userData, parent } }: THREE.Intersection & { eventObject: THREE.Object3D }) => parent?.visible && same((userData as { handle?: HandleInfo }).handle ?? null, focus);
    if (focus && !same(spec, focus) && event.intersections.some(ofFocus)) return;
    event.stopPropagation();
    const table = poseNow();
    if (!table) return;
    const bench = useBench.getState();
    // A point turns its control, and so does the control itself about a point that was chosen.
    const chosen = bench.turning && bench.about && info.handles.find((h) => sameHandle(h, bench.about!) && same(h, spec) && h.turns?.control === spec.control);
    const pin = spec.turns ? spec : chosen || null;
    const point = pin?.turns ?? null;
    const control = point ? info.handles.find((h) => same(h, spec) && h.control === point.control) : spec;
    if (!control) return;
    const me = { member: spec.member, part: spec.part, control: control.control };
    const mine = bench.inHand.some((h) => sameHandle(h, me));
    if (event.nativeEvent.shiftKey) {
      // Shift takes one more in hand, or lets it go.
      bench.set({ inHand: mine ? bench.inHand.filter((h) => !sameHandle(h, me)) : [...bench.inHand, me], focus: me });
      return;
    }
    const turning = point !== null || (bench.turning && spec.gestures.includes("turn"));
    // About a place of the animator's own others are turned, whether it is in hand with them or not.
    const swings = spec.form === "cross" && turning;
    const others = mine || swings ? info.handles.filter((h) => !sameHandle(h, me) && bench.inHand.some((x) => sameHandle(x, h))) : [];
    const pivots = swings && others.length > 0;
    bench.set({ ...NOTHING, ...(mine || pivots ? {} : { inHand: [] }), focus: { member: spec.member, part: spec.part }, playing: false, held: null });
    onHold(true);
    const from = putOf(table, (pin ?? spec).row);
    const tip = spec.along === null ? null : placed(table, spec.along).pos;
    const plane = new THREE.Plane().setFromNormalAndCoplanarPoint(camera.getWorldDirection(new THREE.Vector3()), event.point);
    const start = event.point.clone();
    const down = { x: event.nativeEvent.clientX, y: event.nativeEvent.clientY };
    const keep = bench.stays.filter((p) => !same(p, spec) && !others.some((o) => same(o, p)));
    let asked: DragAsked | null = null;

    const at = (e: PointerEvent): THREE.Vector3 | null => {
      const box = gl.domElement.getBoundingClientRect();
      const p = new THREE.Vector2(((e.clientX - box.left) / size.width) * 2 - 1, 1 - ((e.clientY - box.top) / size.height) * 2);
      raycaster.setFromCamera(p, camera);
      return raycaster.ray.intersectPlane(plane, new THREE.Vector3());
    };
    const move = (e: PointerEvent) => {
      const hit = at(e);
      if (!hit) return;
      const to = turning ? turned(from, camera, e.clientX - down.x, e.clientY - down.y) : spec.gestures.includes("swing") ? swung(from, tip, start, hit) : moved(from, start, hit);
      const goes = pivots || point ? about : along;
      const also = others.map((o) => ({ member: o.member, part: o.part, control: o.control, ...told(goes(putOf(table, o.row), from, to)) }));
      // What others are turned about is not keyed itself.
      const mine = point ? { ...told(about(putOf(table, control.row), from, to)), about: point.about } : told(to);
      const [first, ...rest] = pivots ? also : [{ ...me, ...mine }, ...also];
      asked = { revision: info.revision, frame: useBench.getState().frame, ...first!, also: rest, keep, layer: bench.layer };
      live.drag(info.id, asked);
    };
    holdOn(move, (keepIt) => {
      onHold(false);
      live.end();
      if (asked && keepIt) void letGo(asked);
      else useBench.getState().set({ live: null });
    });
  };
}
