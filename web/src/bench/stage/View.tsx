import { Box, useTheme } from "@mui/material";
import { Canvas, useThree } from "@react-three/fiber";
import { useEffect, useMemo, useState, type ReactNode } from "react";
import * as THREE from "three";
import type { TakeInfo } from "../../shared/api";
import { drawnInSoftware } from "../../shared/drawing";
import { choose, useOperations } from "../actions";
import { askedByClick } from "../offered";
import { useBench, usePick } from "../state";
import { watchPictures } from "./busy";
import { Camera } from "./Camera";
import { Figures } from "./Figures";
import { spoken } from "./geometry";
import { Grips } from "./Grips";
import { Handle, handlesOf } from "./Handles";
import { Pulls, Words, type Told } from "./Pulls";
import { Slips } from "./Slips";
import { Trails } from "./Trails";
import { poseAt, poseBeside, poseNow, poseTried } from "./poses";
import { Sketch } from "./Sketch";
import { useSharpness } from "./sharpness";
import { Skins, useSkins } from "./Skins";

/** What of the bench is not in the picture: while only this changes, nothing is drawn anew. */
const UNSEEN = new Set<string>([
  "stretch", "wish", "choices", "made", "options", "trying", "job", "eager", "held", "keyRule", "shown", "loop", "left", "filter", "meter",
  "rate", "speed", "curves", "channels", "picked", "copied", "revisionList", "locker", "help", "deliver",
]);

/** Asks for one drawing whenever something that is drawn has changed. */
function Redraw() {
  const invalidate = useThree((s) => s.invalidate);
  const gl = useThree((s) => s.gl);
  useEffect(() => watchPictures(gl), [gl]);
  useEffect(() => {
    const stop = useBench.subscribe((now, before) => {
      const seen = (Object.keys(now) as (keyof typeof now)[]).some((k) => now[k] !== before[k] && !UNSEEN.has(k));
      if (seen) invalidate();
    });
    let off = () => {};
    const watch = () => {
      off();
      const { bank, besideBank } = useBench.getState();
      const stops = [bank, besideBank].map((b) => b?.onArrival(() => invalidate()));
      off = () => stops.forEach((s) => s?.());
    };
    watch();
    const again = useBench.subscribe((now, before) => (now.bank !== before.bank || now.besideBank !== before.besideBank) && watch());
    return () => {
      stop();
      again();
      off();
    };
  }, [invalidate]);
  return null;
}

/** A ruled sheet under everything, so that turns and slides can be read. */
function Ground({ water }: { water: boolean }) {
  const theme = useTheme();
  const y = water ? -0.3 : 0;
  const grid = useMemo(() => {
    const made = new THREE.GridHelper(12, 24, theme.ink.soft, theme.ink.soft);
    const material = made.material as THREE.Material;
    material.transparent = true;
    material.opacity = 0.22;
    material.depthWrite = false;
    return made;
  }, [theme]);
  // What would shine through is of one colour, and mixing it in anew costs a fifth of a picture where pictures are drawn in software.
  const surface = useMemo(() => new THREE.Color(theme.ink.sky).convertLinearToSRGB().lerp(new THREE.Color(theme.ink.water).convertLinearToSRGB(), 0.55).convertSRGBToLinear(), [theme]);
  return (
    <group position={[0, y, 0]}>
      <mesh rotation={[-Math.PI / 2, 0, 0]} position={[0, -0.004, 0]}>
        <circleGeometry args={[9, 48]} />
        {water ? (
          <meshBasicMaterial color={surface} />
        ) : (
          // A foot that sinks into the floor is to be seen.
          <meshBasicMaterial color={theme.ink.water} transparent opacity={0.55} depthWrite={false} />
        )}
      </mesh>
      <primitive object={grid} />
    </group>
  );
}

interface ViewProps {
  info: TakeInfo;
  /** A place on a body is asked for: bodies are drawn in the pieces that are clicked, and nothing else is taken in hand. */
  onPlace?: (at: THREE.Vector3) => void;
  /** What else is drawn in the picture. */
  children?: ReactNode;
}

/** The 3D picture: bodies, controls, ghosts. Drawn only when something changes. */
export function View({ info, onPlace, children }: ViewProps) {
  const theme = useTheme();
  const { focus, ghosts, body, light, controls, bones, trails, slips, alone, pinned, beside, trial, playing, set } = usePick(
    "focus", "ghosts", "body", "light", "controls", "bones", "trails", "slips", "alone", "pinned", "beside", "trial", "playing", "set",
  );
  const [held, setHeld] = useState(false);
  // While an operation asks for a place or for something to follow, a click says which.
  const operation = useBench((s) => s.wish?.operation);
  const made = useBench((s) => s.choices);
  const asking = askedByClick(useOperations()?.find((o) => o.id === operation), made);
  const [told, setTold] = useState<Told | null>(null);
  const options = useBench((s) => s.options);
  const nameOf = (joint: string) => Object.values(options).flat().find(([value]) => value === joint)?.[1] ?? joint.replace("/", ", ");
  const skins = useSkins(info);
  const dpr = useSharpness();
  // In pieces where one part is looked at alone, or where bodies are to be light.
  const whole = !alone && !light && !onPlace;
  const inHand = useBench((b) => b.inHand);
  const handles = useMemo(() => handlesOf(info, focus, inHand), [info, focus, inHand]);
  const hasSet = info.members.some((m) => m.kind === "set");
  return (
    <Box sx={{ position: "absolute", inset: 0 }} data-testid="view">
      <Canvas
        frameloop="demand"
        flat
        dpr={dpr}
        camera={{ fov: 34, near: 0.05, far: 80, position: [2.2, 1.6, 2.7] }}
        gl={{ antialias: !drawnInSoftware(), preserveDrawingBuffer: false }}
        role="img"
        aria-label="3D view of the take"
        onCreated={(state) => ((window as unknown as { benchView?: unknown }).benchView = state)}
      >
        <color attach="background" args={[theme.ink.sky]} />
        <hemisphereLight args={["#ffffff", "#c9b48f", 2.1]} />
        <directionalLight position={[3, 6, 4]} intensity={1.5} />
        <Redraw />
        <Camera info={info} held={held} />
        <Ground water={hasSet} />
        {body && whole && <Skins info={info} skins={skins} />}
        {body && <Figures info={info} pose={() => poseNow()} skinned={whole ? skins : undefined} alone={alone ? focus : null} clearFor={focus} pickSet={asking !== undefined} onPoint={asking && ((joint, x, y) => setTold(joint === null ? null : { words: nameOf(joint), x, y }))} onPick={(part, joint, at) => (onPlace ? onPlace(at) : asking ? void choose(asking.name, asking.kind === "point" ? spoken(at) : joint) : set({ focus: part }))} />}
        {beside !== null && <Figures info={info} pose={poseBeside} ghost={theme.ink.left} />}
        {pinned.map((frame) => (
          <Sketch key={frame} info={info} pose={() => poseAt(frame)} color={theme.ink.left} opacity={0.6} />
        ))}
        {trails && <Trails info={info} />}
        {slips && !playing && <Slips info={info} />}
        {asking && <Grips info={info} />}
        {trial && <Figures info={info} pose={poseTried} ghost={theme.ink.accent} />}
        <Pulls info={info} onHold={setHeld} onTold={setTold} />
        {bones && <Sketch info={info} pose={() => poseNow()} color={theme.ink.ink} opacity={0.9} />}
        {ghosts && !playing && (
          <>
            <Sketch info={info} pose={() => poseNow(-1)} color={theme.ink.ink} opacity={0.35} />
            <Sketch info={info} pose={() => poseNow(1)} color={theme.ink.alarm} opacity={0.45} />
          </>
        )}
        {children}
        {controls && handles.map((spec) => <Handle key={`${spec.member}/${spec.part}/${spec.control}`} info={info} spec={spec} onHold={setHeld} />)}
      </Canvas>
      {told && operation && <Words told={told} />}
    </Box>
  );
}
