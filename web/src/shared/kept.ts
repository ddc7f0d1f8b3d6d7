import { useCallback, useState } from "react";

/** What is kept in this browser for the next visit: sizes of panels, folded rows. Unreadable things count as not kept. */
export function kept<T>(name: string, otherwise: T): T {
  try {
    const text = localStorage.getItem(name);
    return text === null ? otherwise : (JSON.parse(text) as T);
  } catch {
    return otherwise;
  }
}

export function keep(name: string, value: unknown) {
  localStorage.setItem(name, JSON.stringify(value));
}

/** A state that is there again at the next visit. */
export function useKept<T>(name: string, otherwise: T): [T, (value: T) => void] {
  const [value, setValue] = useState(() => kept(name, otherwise));
  const change = useCallback(
    (next: T) => {
      setValue(next);
      keep(name, next);
    },
    [name],
  );
  return [value, change];
}
