import { answer } from "./api";

/** Answers that were asked for before anyone needed them, by their path. */
const asked = new Map<string, Promise<ArrayBuffer>>();

/** Asks for something that will be needed, while what needs it is still being made ready. */
export function ahead(path: string) {
  const found = answer(path).then((response) => response.arrayBuffer());
  // Whoever needs it asks again, and is told what is wrong.
  found.catch(() => asked.delete(path));
  asked.set(path, found);
}

/** An answer as bytes: the one that was asked for already, once, or a new one. */
export async function bytes(path: string, signal?: AbortSignal): Promise<ArrayBuffer> {
  const early = asked.get(path);
  asked.delete(path);
  if (early) {
    const found = await early.catch(() => null);
    if (found) return found;
  }
  return (await answer(path, signal ? { signal } : undefined)).arrayBuffer();
}
