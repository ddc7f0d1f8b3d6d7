import { create } from "zustand";
import type { SceneEntry } from "./api";

/** How captures are read where their files do not say: each choice with its values, the first one leaving it to the file. */
export const READINGS = [
  {
    key: "unit",
    label: "Unit of captures",
    values: [
      ["", "unit as the body\u2019s height says"],
      ...["metres", "decimetres", "centimetres", "millimetres", "feet", "inches"].map((u) => [u, `in ${u}`] as const),
    ],
  },
  {
    key: "up",
    label: "Upward axis of captures",
    values: [
      ["", "up as the body stands"],
      ["y", "Y is up"],
      ["z", "Z is up"],
    ],
  },
] as const satisfies { key: string; label: string; values: readonly (readonly [string, string])[] }[];

/** What is chosen of a reading; it stays chosen on this machine. */
export const chosen = (key: string) => localStorage.getItem(key) ?? "";

/** What is asked of the service for a file. */
export function asked(file: File, into?: SceneEntry): URLSearchParams {
  const query = new URLSearchParams({ filename: file.name });
  for (const { key } of READINGS) if (chosen(key)) query.set(key, chosen(key));
  if (into) query.set("scene", String(into.id));
  return query;
}

interface Bringing {
  file: File | null;
  into?: SceneEntry | undefined;
  /** Which one it is since the page was opened. */
  count: number;
  put: (file: File | null, into?: SceneEntry) => void;
}

/** The file that is being brought in, as a scene of its own or as a further take of one. */
export const useBringIn = create<Bringing>((set) => ({
  file: null,
  count: 0,
  put: (file, into) => set((s) => ({ file, into, count: s.count + 1 })),
}));
