import { useEffect } from "react";
import { startingChoices, useActions, useOperations } from "./actions";
import { ordered } from "./drawStrands";
import { strandOf, useBench } from "./state";
import { viewByKey } from "./Transport";

/** Every command of the bench by keyboard. */
export function useShortcuts(onHelp: () => void) {
  const { apply, drop, step } = useActions();
  const operations = useOperations();
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      if (target.closest("input, textarea, [role=dialog]:not([data-testid=offer]), [role=listbox]")) return;
      const bench = useBench.getState();
      const { info, frame, focus, set, toFrame } = bench;
      if (!info) return;
      const select = (first: number, ref: { member: string; part: string }) => {
        const operation = operations?.[0];
        if (!operation || !info.limbs.some((l) => l.member === ref.member && l.part === ref.part)) return;
        const stretch = { parts: [ref], first, last: info.last };
        toFrame(first);
        set({ focus: ref, stretch, operation: operation.id, choices: startingChoices(operation, info, stretch), trial: null });
      };
      const command = event.ctrlKey || event.metaKey;
      const key = event.key.length === 1 ? event.key.toLowerCase() : event.key;
      const onButton = target.closest("button, a, [role=combobox]") !== null;
      const keyTimes = strandOf(info, focus)?.keys.map((k) => k.time) ?? [];
      const actions: Record<string, () => void> = command
        ? { z: () => step(event.shiftKey ? "redo" : "undo") }
        : {
            ArrowLeft: () => toFrame(event.shiftKey ? (keyTimes.filter((t) => t < frame).pop() ?? info.first) : frame - 1),
            ArrowRight: () => toFrame(event.shiftKey ? (keyTimes.find((t) => t > frame) ?? info.last) : frame + 1),
            Home: () => toFrame(info.first),
            End: () => toFrame(info.last),
            ArrowUp: () => neighbour(-1),
            ArrowDown: () => neighbour(1),
            Escape: drop,
            n: () => {
              const next = info.findings.find((f) => f.frame > frame) ?? info.findings[0];
              if (next) select(next.frame, { member: next.member, part: next.part });
            },
            h: () => focus && select(frame, focus),
            c: () => set({ controls: !bench.controls }),
            j: () => set({ bones: !bench.bones }),
            g: () => set({ ghosts: !bench.ghosts }),
            t: () => set({ turning: !bench.turning }),
            "?": onHelp,
            // Space and Enter belong to a button that has the focus.
            ...(onButton ? {} : { " ": () => set({ playing: !bench.playing, live: null }), Enter: apply }),
          };
      const neighbour = (by: number) => {
        const rows = ordered(info);
        const at = rows.findIndex((r) => r.member === focus?.member && r.part === focus.part);
        const next = rows[Math.min(Math.max(at + by, 0), rows.length - 1)];
        if (next) set({ focus: { member: next.member, part: next.part } });
      };
      const view = viewByKey[key];
      const action = actions[key] ?? (view && !command ? () => set({ viewpoint: view }) : undefined);
      if (!action) return;
      event.preventDefault();
      action();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [apply, drop, step, operations, onHelp]);
}
