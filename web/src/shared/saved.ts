import { Problem } from "./api";

/** Fetches a file and hands it to the browser to save, telling what share of it has come. */
export async function saved(url: string, signal: AbortSignal, tell: (share: number) => void) {
  const response = await fetch(url, { signal });
  if (!response.ok || !response.body) {
    const told = (await response.json().catch(() => ({}))) as { message?: string };
    throw new Problem(told.message ?? "The file could not be written.", response.status);
  }
  const size = Number(response.headers.get("Content-Length") ?? 0);
  const name = /filename="([^"]+)"/.exec(response.headers.get("Content-Disposition") ?? "")?.[1] ?? "take";
  const pieces: Uint8Array<ArrayBuffer>[] = [];
  let here = 0;
  const reader = response.body.getReader();
  for (let piece = await reader.read(); !piece.done; piece = await reader.read()) {
    pieces.push(piece.value);
    here += piece.value.length;
    if (size) tell(Math.min(here / size, 1));
  }
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob(pieces));
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}
