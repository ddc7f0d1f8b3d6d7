import { importFile, type SceneEntry } from "./api";
import { useNotice } from "./notice";
import { go } from "./route";

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

/** Brings a capture file in, as a scene of its own or as a further take of one, and opens it; a refusal says why and
 * changes nothing. */
export async function bringIn(file: File, refresh: () => unknown, into?: SceneEntry) {
  const notice = useNotice.getState();
  notice.say(`Bringing in ${file.name}…`);
  try {
    const asked = new URLSearchParams({ filename: file.name });
    for (const { key } of READINGS) if (chosen(key)) asked.set(key, chosen(key));
    if (into) asked.set("scene", String(into.id));
    const found = await importFile(file, asked);
    await refresh();
    const parts = found.parts.length ? `found ${found.parts.join(", ")}` : "no limbs found";
    notice.say(`${file.name}: ${into ? `a further take of ${into.name}` : parts}. ${found.notes.join(" ")}`);
    go(`/take/${found.take_id}`);
  } catch (error) {
    notice.warn(`${file.name} was not brought in. ${(error as Error).message}`);
  }
}
