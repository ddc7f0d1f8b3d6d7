import { create } from "zustand";

interface Notice {
  text: string;
  bad: boolean;
  /** Whether it asks for something that is still to be given. */
  asks: boolean;
  say: (text: string) => void;
  ask: (text: string) => void;
  warn: (text: string) => void;
  clear: () => void;
}

/** One message at a time; errors, and what asks for something, stay until they are closed. */
export const useNotice = create<Notice>((set) => ({
  text: "",
  bad: false,
  asks: false,
  say: (text) => set({ text, bad: false, asks: false }),
  ask: (text) => set({ text, bad: false, asks: true }),
  warn: (text) => set({ text, bad: true, asks: false }),
  clear: () => set({ text: "" }),
}));
