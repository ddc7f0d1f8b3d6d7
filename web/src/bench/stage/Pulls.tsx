import { Box, useTheme } from "@mui/material";
import { useFrame, useThree, type ThreeEvent } from "@react-three/fiber";
import { useEffect, useMemo, useRef, useState } from "react";
import * as THREE from "three";
import type { TakeInfo, Tried } from "../../shared/api";
import { holdOn } from "../../shared/drag";
import { useBench, usePick } from "../state";
import { nearest } from "./pulled";
import { dots, lay, strokes } from "./Trails";
import { useFreed } from "./useFreed";

type InView = NonNullable<Tried["in_view"]>;
type Pull = InView["pulls"][number];
/** What is told beside the pointer while something is dragged or pointed at. */
export interface Told {
  words: string;
  x: number;
  y: number;
}

/** How large a thing to drag is in the picture: its radius as a share of the picture's height. */
const SHARE = 0.013;
const round = new THREE.RingGeometry(0.62, 1, 24);
const disc = new THREE.CircleGeometry(1.7, 16);

/** The path of what is tried, and what of it can be dragged. It stays while the next trial is on its way. */
export function Pulls({ info, onHold, onTold }: { info: TakeInfo; onHold: (holding: boolean) => void; onTold: (told: Told | null) => void }) {
  const { trial, wish } = usePick("trial", "wish");
  const [kept, setKept] = useState<{ operation: string; shown: InView } | null>(null);
  const fresh = trial?.in_view && wish ? { operation: wish.operation, shown: trial.in_view } : null;
  if (fresh && fresh.shown !== kept?.shown) setKept(fresh);
  if (!kept || kept.operation !== wish?.operation || (trial && !trial.in_view)) return null;
  return (
    <>
      {kept.shown.was.length > 0 && <Path places={kept.shown.was} before />}
      <Path places={kept.shown.path} />
      {kept.shown.pulls.map((pull) => (
        <Grab key={pull.label} info={info} pull={pull} onHold={onHold} onTold={onTold} />
      ))}
    </>
  );
}

/** A line with a tick a frame; as it was `before`, without a colour of its own. */
function Path({ places, before = false }: { places: InView["path"]; before?: boolean }) {
  const theme = useTheme();
  const size = useThree((s) => s.size);
  const made = useMemo(() => {
    const color = before ? theme.ink.soft : theme.ink.accent;
    const line = strokes(color, places.length);
    const ticks = dots(color, before ? 3 : 5, places.length);
    lay(line.geometry, places.flat());
    places.forEach((p, k) => (ticks.geometry.getAttribute("position") as THREE.BufferAttribute).setXYZ(k, ...p));
    return { line, all: [...line.lines, ...ticks.points] };
  }, [places, before, theme]);
  useFreed(made.all);
  useEffect(() => made.line.lines.forEach((l) => l.material.resolution.set(size.width, size.height)), [made, size]);
  return made.all.map((o) => <primitive key={o.uuid} object={o} />);
}

/** One thing to drag: it goes to whichever of its places is nearest to the pointer, and what is tried goes along. */
function Grab({ info, pull, onHold, onTold }: { info: TakeInfo; pull: Pull; onHold: (holding: boolean) => void; onTold: (told: Told | null) => void }) {
  const theme = useTheme();
  const { camera, gl, size, invalidate } = useThree();
  const [at, setAt] = useState(pull.at);
  const [before, setBefore] = useState(pull);
  if (before !== pull) {
    setBefore(pull);
    setAt(pull.at);
  }
  const group = useRef<THREE.Group>(null);
  useFrame(() => {
    const g = group.current;
    if (!g) return;
    g.quaternion.copy(camera.quaternion);
    const far = g.position.distanceTo(camera.position);
    const high = camera instanceof THREE.PerspectiveCamera ? 2 * far * Math.tan((camera.fov * Math.PI) / 360) : 2;
    g.scale.setScalar(SHARE * high);
  });
  const seen = (place: Pull["at"]) => {
    const box = gl.domElement.getBoundingClientRect();
    const p = new THREE.Vector3(...place).project(camera);
    return { x: box.left + ((p.x + 1) / 2) * size.width, y: box.top + ((1 - p.y) / 2) * size.height };
  };
  const grab = (event: ThreeEvent<PointerEvent>) => {
    if (event.button !== 0) return;
    event.stopPropagation();
    onHold(true);
    const bench = useBench.getState();
    const from = { wish: bench.wish, stretch: bench.stretch };
    let now: Pull["to"][number] | undefined;
    const move = (e: PointerEvent) => {
      const one = nearest(pull.to, { x: e.clientX, y: e.clientY }, seen);
      if (!one || one === now) return;
      now = one;
      setAt(one.place);
      onTold({ words: `${pull.label}: frames ${one.first} to ${one.last}`, x: e.clientX, y: e.clientY });
      invalidate();
    };
    holdOn(move, (keepIt) => {
      onHold(false);
      onTold(null);
      if (!keepIt || !now || !from.wish) return setAt(pull.at);
      const last = now.last >= info.last ? null : now.last;
      useBench.getState().set({ wish: { ...from.wish, first: now.first, last }, stretch: from.stretch && { ...from.stretch, first: now.first, last: now.last } });
    });
  };
  return (
    <group ref={group} position={at}>
      <mesh geometry={round} renderOrder={7}>
        <meshBasicMaterial color={theme.ink.ink} depthTest={false} transparent side={THREE.DoubleSide} />
      </mesh>
      <mesh
        geometry={disc}
        onPointerDown={grab}
        onPointerOver={(e) => onTold({ words: pull.label, x: e.nativeEvent.clientX, y: e.nativeEvent.clientY })}
        onPointerOut={() => onTold(null)}
      >
        <meshBasicMaterial transparent opacity={0} depthWrite={false} depthTest={false} />
      </mesh>
    </group>
  );
}

/** Words beside the pointer. */
export function Words({ told }: { told: Told }) {
  return (
    <Box data-testid="pointed" sx={{ position: "fixed", left: told.x + 14, top: told.y + 12, px: 0.75, py: 0.25, fontSize: 12.5, bgcolor: "background.paper", border: 1, borderColor: "divider", borderRadius: 1, pointerEvents: "none", zIndex: 5 }}>
      {told.words}
    </Box>
  );
}
