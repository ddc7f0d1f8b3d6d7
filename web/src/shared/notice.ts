import { create } from "zustand";

interface Notice {
  text: string;
  bad: boolean;
  say: (text: string) => void;
  warn: (text: string) => void;
  clear: () => void;
}

/** One message at a time, at the foot of the page; errors stay until they are closed. */
export const useNotice = create<Notice>((set) => ({
  text: "",
  bad: false,
  say: (text) => set({ text, bad: false }),
  warn: (text) => set({ text, bad: true }),
  clear: () => set({ text: "" }),
}));
