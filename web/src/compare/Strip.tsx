import { useMemo, useRef } from "react";
import { Sheet } from "../bench/Sheet";
import type { Compared } from "../shared/api";
import { follow } from "../shared/drag";
import { mm } from "../shared/format";
import { useSize } from "../shared/useSize";
import { drawDifference, frameAt, heightFor } from "./drawDifference";

/** The difference over time: of any joint, and of the parts that differ most. Dragging along it goes through the frames. */
export function Strip({ data, frame, onFrame, ink }: { data: Compared; frame: number; onFrame: (f: number) => void; ink: Parameters<typeof drawDifference>[1]["ink"] }) {
  const box = useRef<HTMLDivElement>(null);
  const { width } = useSize(box);
  const rows = useMemo(() => data.parts.slice(0, 5), [data]);
  const height = heightFor(rows.length);
  const scrub = (event: React.PointerEvent<HTMLCanvasElement>) => {
    const left = event.currentTarget.getBoundingClientRect().left;
    const move = (e: { clientX: number }) => onFrame(frameAt(e.clientX - left, data, width));
    move(event);
    follow(move);
  };
  const worst = Math.max(0, ...data.place);
  return (
    <div ref={box}>
      <Sheet
        width={width}
        height={height}
        data-testid="difference"
        role="img"
        aria-label={`Difference over time: at most ${mm(worst)}; ${rows.map((r) => `${r.label} ${mm(Math.max(...r.place))}`).join(", ")}`}
        onPointerDown={scrub}
        draw={(g) => drawDifference(g, { data, rows, frame, width, height, ink })}
      />
    </div>
  );
}
