import { useState } from "react";
import type { CurveInfo } from "../../shared/api";
import { follow } from "../../shared/drag";
import { useActions } from "../actions";
import { named } from "../keysInHand";
import { usePick, type KeyRef } from "../state";
import type { Scale } from "../timeline/scale";
import { handlesAt, valueOf, withKeys, type Height } from "./drawCurves";

/** A box drawn about keys, pixels. */
export interface Box {
  x0: number;
  y0: number;
  x1: number;
  y1: number;
}

interface Point {
  x: number;
  y: number;
}

/** Dragging on curves: keys in time and value, handles of slopes, a box about keys; a double click puts a key. */
export function useCurveGestures(now: CurveInfo[], settled: Map<string, Height>, scale: Scale) {
  const { picked, set, toFrame } = usePick("picked", "set", "toFrame");
  const { edit } = useActions();
  const [dragged, setDragged] = useState<CurveInfo[] | null>(null);
  const [box, setBox] = useState<Box | null>(null);

  const nearest = (x: number, y: number): KeyRef | null => {
    let best: KeyRef | null = null;
    let least = 9;
    for (const c of now)
      for (const k of c.keys)
        for (const v of [k.leaving, k.arriving]) {
          const d = Math.hypot(scale.x(k.time) - x, settled.get(c.channel)!.y(v) - y);
          if (d < least) [least, best] = [d, { channel: c.channel, time: k.time }];
        }
    return best;
  };
  const slopeHandle = (x: number, y: number) => {
    for (const ref of picked) {
      const curve = now.find((c) => c.channel === ref.channel);
      const i = curve?.keys.findIndex((k) => k.time === ref.time) ?? -1;
      if (!curve || i < 0) continue;
      const height_ = settled.get(curve.channel)!;
      const hit = handlesAt(curve, i, scale, height_).find((h) => Math.hypot(h.x - x, h.y - y) < 8);
      if (hit) return { curve, key: curve.keys[i]!, side: hit.side, height: height_ };
    }
    return null;
  };

  const press = (event: React.PointerEvent<HTMLCanvasElement>) => {
    if (event.button !== 0) return;
    const bounds = event.currentTarget.getBoundingClientRect();
    const at = (e: { clientX: number; clientY: number }) => ({ x: e.clientX - bounds.left, y: e.clientY - bounds.top });
    const start = at(event);
    const slope = slopeHandle(start.x, start.y);
    if (slope) return dragSlope(slope, at);
    const hit = nearest(start.x, start.y);
    if (hit) return dragKeys(hit, start, at, event.shiftKey);
    // An empty place: a box, or the frame.
    follow(
      (e) => {
        const p = at(e);
        setBox({ x0: start.x, y0: start.y, x1: p.x, y1: p.y });
      },
      (e) => {
        const p = at(e);
        setBox(null);
        if (Math.hypot(p.x - start.x, p.y - start.y) < 4) {
          set({ picked: [] });
          toFrame(scale.frame(p.x));
          return;
        }
        const [x0, x1] = [Math.min(start.x, p.x), Math.max(start.x, p.x)];
        const [y0, y1] = [Math.min(start.y, p.y), Math.max(start.y, p.y)];
        const found = now.flatMap((c) =>
          c.keys
            .filter((k) => {
              const [x, y] = [scale.x(k.time), settled.get(c.channel)!.y(k.leaving)];
              return x >= x0 && x <= x1 && y >= y0 && y <= y1;
            })
            .map((k) => ({ channel: c.channel, time: k.time })),
        );
        set({ picked: event.shiftKey ? [...picked, ...found] : found });
      },
    );
  };

  const dragSlope = (slope: NonNullable<ReturnType<typeof slopeHandle>>, at: (e: PointerEvent) => Point) => {
    const ref = [{ channel: slope.curve.channel, time: slope.key.time }];
    const joined = slope.key.arriving === slope.key.leaving && Math.abs(slope.key.slope_in - slope.key.slope_out) < 1e-12;
    let value = slope.side === "in" ? slope.key.slope_in : slope.key.slope_out;
    const given = (): Record<string, number> => (joined ? { slope_in: value, slope_out: value } : slope.side === "in" ? { slope_in: value } : { slope_out: value });
    follow(
      (e) => {
        const p = at(e);
        const dt = scale.frame(p.x) - slope.key.time;
        if (slope.side === "in" ? dt > -0.05 : dt < 0.05) return;
        value = (slope.height.value(p.y) - (slope.side === "in" ? slope.key.arriving : slope.key.leaving)) / dt;
        setDragged(withKeys(now, ref, (k) => ({ ...k, ...given() })));
      },
      () => void edit({ what: "set", keys: named(ref), values: given() }).finally(() => setDragged(null)),
    );
  };

  const dragKeys = (hit: KeyRef, start: Point, at: (e: PointerEvent) => Point, adding: boolean) => {
    const isPicked = picked.some((k) => k.channel === hit.channel && k.time === hit.time);
    const chosen = isPicked ? (adding ? picked.filter((k) => k.channel !== hit.channel || k.time !== hit.time) : picked) : adding ? [...picked, hit] : [hit];
    set({ picked: chosen });
    const height_ = settled.get(hit.channel)!;
    let by = 0;
    let rise = 0;
    follow(
      (e) => {
        const p = at(e);
        by = Math.round(scale.frame(p.x) - scale.frame(start.x));
        rise = Math.abs(p.y - start.y) < 3 ? 0 : height_.value(p.y) - height_.value(start.y);
        // Ctrl keeps the value, so that keys move in time alone.
        if (e.ctrlKey) rise = 0;
        setDragged(withKeys(now, chosen, (k) => ({ ...k, time: k.time + by, arriving: k.arriving + rise, leaving: k.leaving + rise })));
      },
      () => {
        if (by === 0 && rise === 0) {
          setDragged(null);
          toFrame(hit.time);
          return;
        }
        void edit({ what: "move", keys: named(chosen), by, rise }).then((done) => {
          setDragged(null);
          if (done) set({ picked: chosen.map((k) => ({ ...k, time: k.time + by })) });
        });
      },
    );
  };

  const insertAt = (event: React.MouseEvent<HTMLCanvasElement>) => {
    const bounds = event.currentTarget.getBoundingClientRect();
    const t = Math.round(scale.frame(event.clientX - bounds.left));
    const y = event.clientY - bounds.top;
    const curve = [...now].sort((a, b) => Math.abs(settled.get(a.channel)!.y(valueOf(a, t)) - y) - Math.abs(settled.get(b.channel)!.y(valueOf(b, t)) - y))[0];
    if (curve) void edit({ what: "add", keys: [{ channel: curve.channel, times: [t] }] }).then((done) => done && set({ picked: [{ channel: curve.channel, time: t }] }));
  };

  return { press, insertAt, dragged, box };
}
