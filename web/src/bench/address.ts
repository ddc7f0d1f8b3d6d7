import { useEffect } from "react";
import { useBench, type PartRef } from "./state";

/** What a link says of a bench: its frame and its part, as in /take/1?frame=118&part=marl/arm.R. */
export interface Place {
  frame: number | null;
  part: PartRef | null;
}

export function placeOf(search: string): Place {
  const asked = new URLSearchParams(search);
  const frame = asked.get("frame");
  const [member = "", ...part] = (asked.get("part") ?? "").split("/");
  return { frame: frame !== null && /^-?\d+$/.test(frame) ? Number(frame) : null, part: part.length ? { member, part: part.join("/") } : null };
}

export function searchOf({ frame, part }: Place): string {
  const told = [frame === null ? "" : `frame=${frame}`, part ? `part=${encodeURIComponent(part.member)}/${encodeURIComponent(part.part)}` : ""].filter(Boolean);
  return told.length ? `?${told.join("&")}` : "";
}

/** Keeps the address telling the frame and the part in hand, so that a link opens there; no step in the browser's history. */
export function useAddress(takeId: number) {
  useEffect(() => {
    let timer = 0;
    const stop = useBench.subscribe((now, before) => {
      if (now.info?.id !== takeId || now.playing || (now.frame === before.frame && now.focus === before.focus && now.playing === before.playing)) return;
      clearTimeout(timer);
      timer = window.setTimeout(() => {
        if (location.pathname === `/take/${takeId}`) history.replaceState(null, "", location.pathname + searchOf({ frame: now.frame, part: now.focus }));
      }, 300);
    });
    return () => {
      clearTimeout(timer);
      stop();
    };
  }, [takeId]);
}
