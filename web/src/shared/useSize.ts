import { useEffect, useState, type RefObject } from "react";

/** Width and height of an element's content, whole pixels, as they change. */
export function useSize(ref: RefObject<HTMLElement | null>): { width: number; height: number } {
  const [size, setSize] = useState({ width: 0, height: 0 });
  useEffect(() => {
    const watch = new ResizeObserver(([entry]) => setSize({ width: Math.floor(entry!.contentRect.width), height: Math.floor(entry!.contentRect.height) }));
    if (ref.current) watch.observe(ref.current);
    return () => watch.disconnect();
  }, [ref]);
  return size;
}
