import { useEffect } from "react";
import { useBench, usePick } from "./state";

/** Runs playback: whole frames at the take's rate, from poses fetched ahead; a frame not yet here is waited for. */
export function usePlayback() {
  const { playing, speed, info, bank, loop } = usePick("playing", "speed", "info", "bank", "loop");
  useEffect(() => {
    if (!playing || !info || !bank) return;
    const { frame, set } = useBench.getState();
    const src = `revision-${info.revision}`;
    let start = performance.now();
    const [low, high] = loop ?? [info.first, info.last];
    let from = frame >= high || frame < low ? low : frame;
    let handle = 0;
    let drawn = 0;
    let since = start;
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
      if (bank.at(src, at)) {
        if (at !== useBench.getState().frame) {
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
      set({ rate: 0 });
    };
  }, [playing, speed, info, bank, loop]);
}
