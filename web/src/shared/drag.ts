/** Follows the pointer until it is let go, wherever it goes on the page. */
export function follow(move: (e: PointerEvent) => void, end: (e: PointerEvent) => void = () => undefined) {
  const up = (e: PointerEvent) => {
    window.removeEventListener("pointermove", move);
    window.removeEventListener("pointerup", up);
    end(e);
  };
  window.addEventListener("pointermove", move);
  window.addEventListener("pointerup", up);
}

/** The same, but Escape lets go too: `end` is told whether what was done is to be kept. */
export function holdOn(move: (e: PointerEvent) => void, end: (keepIt: boolean) => void) {
  const stop = (keepIt: boolean) => {
    window.removeEventListener("pointermove", move);
    window.removeEventListener("pointerup", release);
    window.removeEventListener("keydown", cancel, true);
    end(keepIt);
  };
  const release = () => stop(true);
  const cancel = (e: KeyboardEvent) => {
    if (e.key !== "Escape") return;
    e.stopPropagation();
    stop(false);
  };
  window.addEventListener("pointermove", move);
  window.addEventListener("pointerup", release);
  window.addEventListener("keydown", cancel, true);
}
