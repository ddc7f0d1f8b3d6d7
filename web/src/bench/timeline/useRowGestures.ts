import { useState } from "react";
import type { TakeInfo } from "../../shared/api";
import { follow } from "../../shared/drag";
import { offer, useActions, useOperations } from "../actions";
import { NOTHING, useBench, usePick } from "../state";
import { joined, SLACK, spotAt, stretchOf } from "./gestures";
import { draggedTo, plankAt, type Dragged, type Hit } from "./planks";
import { partsOf, type Row } from "./rows";
import type { Scale } from "./scale";

/** Dragging on the rows: across them a stretch is selected and offered what applies, with Shift more joins the one in hand; a plank's
 * edge goes to another frame. */
export function useRowGestures(info: TakeInfo, rows: Row[], scale: Scale) {
  const operations = useOperations();
  const { set, toFrame } = usePick("set", "toFrame");
  const { now } = useActions();
  const [dragged, setDragged] = useState<Dragged | null>(null);
  const hitAt = (event: { clientX: number; clientY: number }, bounds: DOMRect) => plankAt(rows, scale, event.clientX - bounds.left, event.clientY - bounds.top);

  /** A plank's edge is dragged to another frame; a plank itself is clicked, and its frames become the stretch. */
  const takePlank = ({ strand, plank, edge }: Hit, event: React.PointerEvent<HTMLCanvasElement>, bounds: DOMRect) => {
    const part = { member: strand.member, part: strand.part };
    set({ focus: part, live: null, playing: false });
    let next: Dragged | null = null;
    const move = (e: PointerEvent) => {
      if (!edge || (!next && Math.abs(e.clientX - event.clientX) < SLACK)) return;
      next = draggedTo(plank, edge, scale.frame(e.clientX - bounds.left), info);
      setDragged(next);
      toFrame(next[edge]);
    };
    const up = () => {
      if (!next) {
        toFrame(plank.first);
        void offer(operations, info, { parts: [part], first: plank.first, last: plank.last }, "plant");
        return;
      }
      const { id, first, last } = next;
      set(NOTHING);
      const done = () => setDragged(null);
      if (first === plank.first && last === plank.last) done();
      else void now({ operation: "contact", parts: [], first, last }, { contact: id }).then(done);
    };
    follow(move, up);
  };

  const press = (event: React.PointerEvent<HTMLCanvasElement>) => {
    if (event.button !== 0) return;
    const bounds = event.currentTarget.getBoundingClientRect();
    const hit = hitAt(event, bounds);
    if (hit && !event.shiftKey) return takePlank(hit, event, bounds);
    const at = (e: { clientX: number; clientY: number }) => spotAt(rows, scale, e.clientX - bounds.left, e.clientY - bounds.top, info);
    const start = at(event);
    const strand = rows[start.row]?.strand;
    const { stretch: held, wish } = useBench.getState();
    const more = event.shiftKey ? held : null;
    set({ live: null, playing: false, ...(strand && !more ? { focus: { member: strand.member, part: strand.part } } : {}) });
    let moved = false;
    const select = (e: PointerEvent) => {
      moved = moved || Math.abs(e.clientX - event.clientX) >= SLACK;
      if (!moved) return more && joined(more, { ...more, parts: partsOf(rows.slice(start.row, start.row + 1)) });
      return joined(more, stretchOf(rows, start, at(e)));
    };
    const move = (e: PointerEvent) => {
      const next = select(e);
      // While dragging nothing is tried yet: no choices are made.
      if (next && moved) set({ ...NOTHING, stretch: next });
    };
    const up = (e: PointerEvent) => {
      const next = select(e);
      if (!next || next.last === next.first) {
        toFrame(start.frame);
        set(NOTHING);
        return;
      }
      if (!more) toFrame(next.first);
      void offer(operations, info, next, more ? wish?.operation : undefined);
    };
    follow(move, up);
  };

  /** A row joins the stretch in hand, or the part in hand from end to end; or it leaves it. */
  const join = (row: Row) => {
    const { stretch, focus, wish } = useBench.getState();
    const held = stretch ?? { parts: focus ? [focus] : [], first: info.first, last: info.last };
    void offer(operations, info, joined(held, { ...held, parts: partsOf([row]) }), wish?.operation);
  };

  const hover = (event: React.PointerEvent<HTMLCanvasElement>) => {
    const hit = hitAt(event, event.currentTarget.getBoundingClientRect());
    event.currentTarget.style.cursor = hit?.edge ? "ew-resize" : hit ? "pointer" : "";
  };

  return { press, hover, join, dragged };
}
