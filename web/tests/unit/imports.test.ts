import { expect, test } from "vitest";

const ROOT = "../../src/";
const text = new Map(Object.entries(import.meta.glob<string>("../../src/**/*.{ts,tsx}", { query: "?raw", import: "default", eager: true })));

/** A path without its dots. */
function plain(path: string): string {
  const found: string[] = [];
  for (const piece of path.split("/")) {
    if (piece === ".." && found.length && found.at(-1) !== "..") found.pop();
    else if (piece !== ".") found.push(piece);
  }
  return found.join("/");
}

/** Files that a file needs while it runs; types alone make no circle. */
function needs(file: string): string[] {
  return [...text.get(file)!.matchAll(/^import (?!type\b)[^;]*?from "(\.[^"]+)";/gms)].flatMap(([, path]) => {
    const base = plain(`${file.slice(0, file.lastIndexOf("/"))}/${path!}`);
    return [".ts", ".tsx"].map((e) => base + e).filter((f) => text.has(f));
  });
}

test("no circle of imports", () => {
  const done = new Set<string>();
  const walk = (file: string, path: string[]): string[] | null => {
    if (path.includes(file)) return [...path.slice(path.indexOf(file)), file];
    if (done.has(file)) return null;
    for (const next of needs(file)) {
      const circle = walk(next, [...path, file]);
      if (circle) return circle;
    }
    done.add(file);
    return null;
  };
  expect(text.size).toBeGreaterThan(40);
  for (const file of text.keys()) expect(walk(file, [])?.map((f) => f.replace(ROOT, "")) ?? []).toEqual([]);
});

test("no long file measures, draws and commands at once", () => {
  for (const [file, source] of text) {
    if (source.split("\n").length <= 150 || file.includes("generated")) continue;
    const does = [/getBoundingClientRect|useSize\(/.test(source), /CanvasRenderingContext2D|useFrame\(|<Sheet/.test(source), /useActions\(\)/.test(source)];
    expect(does.filter(Boolean).length, file.replace(ROOT, "")).toBeLessThan(3);
  }
});
