import { useSyncExternalStore } from "react";

const listeners = new Set<() => void>();

function tell() {
  listeners.forEach((listener) => listener());
}
window.addEventListener("popstate", tell);

export function go(path: string) {
  history.pushState(null, "", path);
  tell();
}

export function usePath(): string {
  return useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => location.pathname + location.search,
  );
}
