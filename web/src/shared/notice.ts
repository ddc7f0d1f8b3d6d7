import { create } from "zustand";

interface Notice {
  text: string;
  /** Something done, something that is still to be given, or something that went wrong. */
  kind: "told" | "asked" | "wrong";
  say: (text: string) => void;
  ask: (text: string) => void;
  warn: (text: string) => void;
  clear: () => void;
}

/** One message at a time; errors, and what asks for something, stay until they are closed. */
export const useNotice = create<Notice>((set) => ({
  text: "",
  kind: "told",
  say: (text) => set({ text, kind: "told" }),
  ask: (text) => set({ text, kind: "asked" }),
  warn: (text) => set({ text, kind: "wrong" }),
  clear: () => set({ text: "" }),
}));
