import { create } from "zustand";

interface Notice {
  text: string;
  /** Something done, something that is still to be given, or something that went wrong. */
  kind: "told" | "asked" | "wrong";
  /** What else was noticed, unfolded by who wants to read it. */
  more: string[];
  say: (text: string, more?: string[]) => void;
  ask: (text: string) => void;
  warn: (text: string) => void;
  clear: () => void;
}

/** One message at a time; errors, and what asks for something, stay until they are closed. */
export const useNotice = create<Notice>((set) => ({
  text: "",
  kind: "told",
  more: [],
  say: (text, more = []) => set({ text, more, kind: "told" }),
  ask: (text) => set({ text, more: [], kind: "asked" }),
  warn: (text) => set({ text, more: [], kind: "wrong" }),
  clear: () => set({ text: "", more: [] }),
}));
