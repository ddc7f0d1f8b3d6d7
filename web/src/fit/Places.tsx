import { useTheme } from "@mui/material";
import { useFrame } from "@react-three/fiber";
import { useRef } from "react";
import type { Group } from "three";
import { poseNow } from "../bench/stage/poses";
import { rowOf } from "../bench/stage/viewpoints";
import type { Setting, TakeInfo } from "../shared/api";

/** What the figures of a part place, on the body as it moves: a dot each, larger where it is the one to be pointed at. */
export function Places({ info, member, settings, chosen }: { info: TakeInfo; member: string; settings: Setting[]; chosen: string | undefined }) {
  return settings.filter((s) => s.places.length === 1 || s.id === chosen).map((s) => <Place key={s.id} info={info} member={member} setting={s} chosen={s.id === chosen} />);
}

function Place({ info, member, setting, chosen }: { info: TakeInfo; member: string; setting: Setting; chosen: boolean }) {
  const { ink } = useTheme();
  const group = useRef<Group>(null);
  const row = rowOf(info, member, setting.joint) * 7;
  useFrame(() => {
    const table = poseNow();
    if (!group.current) return;
    group.current.visible = table !== null;
    if (!table) return;
    group.current.position.set(table[row]!, table[row + 1]!, table[row + 2]!);
    group.current.quaternion.set(table[row + 3]!, table[row + 4]!, table[row + 5]!, table[row + 6]!);
  });
  return (
    <group ref={group}>
      {setting.places.map((at, k) => (
        <mesh key={k} name={setting.id} position={at} renderOrder={4} raycast={() => undefined}>
          <sphereGeometry args={[chosen ? 0.011 : 0.006, 12, 8]} />
          <meshBasicMaterial color={chosen ? ink.accent : ink.ink} depthTest={false} transparent />
        </mesh>
      ))}
    </group>
  );
}
