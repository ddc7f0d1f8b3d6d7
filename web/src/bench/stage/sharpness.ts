import { useEffect, useState } from "react";
import { drawnInSoftware } from "../../shared/drawing";
import { useBench } from "../state";

/** Pixels of the picture for one of the page: finer ones while it rests, plain ones while it plays or is dragged. */
export function useSharpness(): number | [number, number] {
  const moving = useBench((s) => s.playing || s.live !== null);
  const [fine, setFine] = useState(true);
  useEffect(() => {
    const timer = setTimeout(() => setFine(!moving), moving ? 0 : 250);
    return () => clearTimeout(timer);
  }, [moving]);
  if (!drawnInSoftware()) return [1, 1.5];
  return Math.min(1, window.devicePixelRatio) * (fine && !moving ? 1.5 : 1);
}
