import { beforeAll, expect, test, vi } from "vitest";

beforeAll(() => {
  vi.stubGlobal("localStorage", { getItem: () => null, setItem: () => undefined });
  vi.stubGlobal("window", { addEventListener: () => undefined, location: { search: "" } });
});

const event = (key: string, more: Partial<KeyboardEvent> = {}) => ({ key, ctrlKey: false, metaKey: false, altKey: false, shiftKey: false, ...more });

test("no key means two things, and every command has a name and a place in the help", async () => {
  const { COMMANDS } = await import("../../src/bench/commands/commands");
  const keys = COMMANDS.flatMap((c) => c.keys);
  expect(new Set(keys).size).toBe(keys.length);
  expect(new Set(COMMANDS.map((c) => c.id)).size).toBe(COMMANDS.length);
  // What the help does not name by itself is named beside its neighbour.
  for (const c of COMMANDS) expect(c.words !== "" || c.shown === "").toBe(true);
});

test("keys are read as they are written", async () => {
  const { commandOf } = await import("../../src/bench/commands/commands");
  expect(commandOf(event("n"))!.id).toBe("next finding");
  expect(commandOf(event("R", { shiftKey: true }))!.id).toBe("repair all");
  expect(commandOf(event("z", { ctrlKey: true }))!.id).toBe("undo");
  expect(commandOf(event("Z", { metaKey: true, shiftKey: true }))!.id).toBe("redo");
  expect(commandOf(event(" "))!.id).toBe("play");
  expect(commandOf(event("?", { shiftKey: true }))!.id).toBe("help");
  expect(commandOf(event("ArrowUp", { altKey: true, shiftKey: true }))!.id).toBe("nudge more Up");
  expect(commandOf(event("r"))).toBeUndefined();
  expect(commandOf(event("n", { ctrlKey: true }))).toBeUndefined();
});
