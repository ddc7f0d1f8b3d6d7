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
