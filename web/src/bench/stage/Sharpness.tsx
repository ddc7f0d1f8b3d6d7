import { useThree } from "@react-three/fiber";
import { useEffect } from "react";
import { useBench } from "../state";

/** Whether pictures are drawn by the processor: then smooth edges while something moves cost more than they are worth. */
export const drawnInSoftware = (() => {
  let known: boolean | null = null;
  return () => {
    if (known !== null) return known;
    const gl = document.createElement("canvas").getContext("webgl2");
    const told = gl?.getExtension("WEBGL_debug_renderer_info");
    known = told ? /swiftshader|llvmpipe|software/i.test(String(gl!.getParameter(told.UNMASKED_RENDERER_WEBGL))) : false;
    gl?.getExtension("WEBGL_lose_context")?.loseContext();
    return known;
  };
})();

/** Finer pixels while the picture rests, plain ones while it plays or is dragged. */
export function Sharpness() {
  const setDpr = useThree((s) => s.setDpr);
  const moving = useBench((s) => s.playing || s.live !== null);
  useEffect(() => {
    if (moving) {
      setDpr(1);
      return;
    }
    const timer = setTimeout(() => setDpr(2), 250);
    return () => clearTimeout(timer);
  }, [moving, setDpr]);
  return null;
}
