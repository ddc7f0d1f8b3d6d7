import { useTheme } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useFrame } from "@react-three/fiber";
import { useMemo } from "react";
import * as THREE from "three";
import { get, type Contact, type TakeInfo } from "../../shared/api";
import { poseAt } from "./poses";
import { usePick } from "../state";
import { useFreed } from "./useFreed";

function lines(color: string, opacity: number, count: number) {
  const geometry = new THREE.BufferGeometry().setAttribute("position", new THREE.BufferAttribute(new Float32Array(count * 3), 3));
  const made = new THREE.LineSegments(geometry, new THREE.LineBasicMaterial({ color, transparent: true, opacity, depthTest: false }));
  made.frustumCulled = false;
  made.renderOrder = 4;
  made.raycast = () => undefined;
  return made;
}

/** The take's contacts, frame by frame. */
function useContacts(info: TakeInfo) {
  return useQuery({ queryKey: ["contacts", info.id, info.revision], queryFn: () => get<Contact[]>(`/takes/${info.id}/contacts?revision=${info.revision}`), staleTime: Infinity });
}

/** A stroke from where each end in contact should be to where it is, ten times as long as the slip so that it shows. */
export function Slips({ info }: { info: TakeInfo }) {
  const theme = useTheme();
  const { frame } = usePick("frame");
  const contacts = useContacts(info).data;
  const made = useMemo(() => {
    const strokes = lines(theme.ink.alarm, 1, 64);
    const feet = lines(theme.ink.accent, 0.9, 256);
    return { strokes, feet, all: [feet, strokes] };
  }, [theme]);
  useFreed(made.all);
  useFrame(() => {
    const strokes = made.strokes.geometry.getAttribute("position") as THREE.BufferAttribute;
    const feet = made.feet.geometry.getAttribute("position") as THREE.BufferAttribute;
    let [s, c] = [0, 0];
    const pose = poseAt(frame);
    for (const contact of contacts ?? []) {
      const should = contact.should[Math.round(frame - contact.frames[0]!)];
      if (!pose || !should || s >= 60) continue;
      const row = info.joints.findIndex(([m, j]) => m === contact.member && j === contact.joint) * 7;
      const off = [0, 1, 2].map((a) => 10 * (pose[row + a]! - should[a]!));
      strokes.setXYZ(s++, should[0], should[1], should[2]);
      strokes.setXYZ(s++, should[0] + off[0]!, should[1] + off[1]!, should[2] + off[2]!);
      // A small cross where the end should be.
      for (const axis of [0, 2])
        for (const sign of [-1, 1]) {
          const at = [...should] as [number, number, number];
          at[axis]! += sign * 0.02;
          feet.setXYZ(c++, at[0], at[1], at[2]);
        }
    }
    made.strokes.geometry.setDrawRange(0, s);
    made.feet.geometry.setDrawRange(0, c);
    strokes.needsUpdate = feet.needsUpdate = true;
  });
  return made.all.map((o) => <primitive key={o.uuid} object={o} />);
}
