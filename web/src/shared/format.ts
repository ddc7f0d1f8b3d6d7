/** Metres as millimetres, with as many digits as matter. */
export function mm(metres: number): string {
  const v = Math.abs(metres) * 1000;
  if (v < 5e-4) return "0 mm";
  if (v < 0.1) return `${v.toFixed(3)} mm`;
  if (v < 100) return `${v.toFixed(1)} mm`;
  return `${v.toFixed(0)} mm`;
}

/** Radians as degrees. */
export function degrees(radians: number, digits = 2): string {
  const v = (radians * 180) / Math.PI;
  return `${Math.abs(v) < 0.5 * 10 ** -digits ? (0).toFixed(digits) : v.toFixed(digits)}°`;
}

export function channelValue(value: number, unit: string): string {
  if (unit === "rad") return degrees(value, 1);
  if (unit === "m") return `${(value * 1000).toFixed(1)} mm`;
  return value > 0 ? "positive" : "negative";
}

/** A stored value as the animator reads it: degrees, millimetres, or as it is; large ones with fewer digits, which then fit. */
export function shownNumber(value: number, unit: string): number {
  const v = unit === "rad" ? (value * 180) / Math.PI : unit === "m" ? value * 1000 : value;
  const fine = Math.abs(v) < 1000 ? 1000 : 10;
  return Math.round(v * fine) / fine;
}

/** What was typed, as it is stored. */
export function storedNumber(shown: number, unit: string): number {
  return unit === "rad" ? (shown * Math.PI) / 180 : unit === "m" ? shown / 1000 : shown;
}

/** When something was made, as it is told now: its time today, else its day too. */
export function whenMade(made: Date, now: Date): string {
  const two = (n: number) => String(n).padStart(2, "0");
  const time = `${two(made.getHours())}:${two(made.getMinutes())}:${two(made.getSeconds())}`;
  if (made.toDateString() === now.toDateString()) return `today, ${time}`;
  return `${made.getDate()} ${made.toLocaleString("en", { month: "long" })}${made.getFullYear() === now.getFullYear() ? "" : ` ${made.getFullYear()}`}, ${time.slice(0, 5)}`;
}
