import { useLayoutEffect, useRef } from "react";
import { drawnInSoftware } from "../shared/drawing";

interface SheetProps extends React.CanvasHTMLAttributes<HTMLCanvasElement> {
  width: number;
  height: number;
  draw: (g: CanvasRenderingContext2D) => void;
}

/** A canvas drawn at the screen's own resolution whenever `draw` changes. */
export function Sheet({ width, height, draw, ...rest }: SheetProps) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useLayoutEffect(() => {
    const c = canvas.current;
    // Where there is no graphics processor, going through one that is imitated costs twice as much.
    const g = c?.getContext("2d", { willReadFrequently: drawnInSoftware() });
    if (!c || !g || width <= 0 || height <= 0) return;
    const ratio = window.devicePixelRatio || 1;
    c.width = width * ratio;
    c.height = height * ratio;
    g.setTransform(ratio, 0, 0, ratio, 0, 0);
    draw(g);
  }, [width, height, draw]);
  return <canvas ref={canvas} style={{ width, height, display: "block", touchAction: "none" }} {...rest} />;
}
