import { useEffect } from "react";
import { keep, kept } from "../shared/kept";
import { Pace } from "./pace";
import { stillDrawing } from "./stage/busy";
import { source, useBench, usePick } from "./state";

/** Runs playback: whole frames at the take's rate, from poses fetched ahead; a frame not yet here is waited for. */
export function usePlayback() {
  const { playing, speed, info, bank, loop } = usePick("playing", "speed", "info", "bank", "loop");
  useEffect(() => {
    if (!playing || !info || !bank) return;
    const { frame, set } = useBench.getState();
    const src = source(info);
    let start = performance.now();
    const [low, high] = loop ?? [info.first, info.last];
    let from = frame >= high || frame < low ? low : frame;
    let handle = 0;
    let drawn = 0;
    let since = start;
    const pace = new Pace(kept("pace of playing", 1));
    const tick = (now: number) => {
      // A picture's own time may lie before the start.
      const elapsed = (Math.max(now - start, 0) / 1000) * info.rate * speed;
      let at = Math.floor(from + elapsed);
      if (at > high) {
        from = low;
        start = now;
        at = low;
      }
      bank.ahead(src, at);
      const due = pace.asks(now, stillDrawing());
      if (bank.at(src, at)) {
        if (due && at !== useBench.getState().frame) {
          pace.draws(now);
          set({ frame: at });
          drawn += 1;
        }
      } else {
        from = useBench.getState().frame;
        start = now;
      }
      if (now - since > 1000) {
        set({ rate: (drawn * 1000) / (now - since) });
        drawn = 0;
        since = now;
      }
      handle = requestAnimationFrame(tick);
    };
    handle = requestAnimationFrame(tick);
    return () => {
      cancelAnimationFrame(handle);
      keep("pace of playing", pace.every);
      set({ rate: 0 });
    };
  }, [playing, speed, info, bank, loop]);
}
