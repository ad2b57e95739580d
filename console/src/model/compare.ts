import { byteRate, bytes, micros, percent, rate } from "./format";
import type { Direction } from "./types";

export type Beside = "day" | "week" | "before" | "same";

export const besides: { id: Beside; words: string }[] = [
  { id: "before", words: "just before" },
  { id: "day", words: "a day earlier" },
  { id: "week", words: "a week earlier" },
];

const dayLong = 86_400e3;

/** When the other window begins, in ms; undefined where it is the same one. */
export function otherStart(beside: Beside, from: number, to: number): number | undefined {
  switch (beside) {
    case "before":
      return from - (to - from);
    case "day":
      return from - dayLong;
    case "week":
      return from - 7 * dayLong;
  }
  return undefined;
}

/** A figure of a contrast with its unit. */
export function figureWords(v: number | null, unit: string): string {
  if (v === null) return "–";
  if (unit === "µs") return micros(v);
  if (unit === "share") return percent(v);
  if (unit === "B/s") return byteRate(v);
  if (unit === "B") return bytes(v);
  return `${rate(v)}${unit === "1/s" ? "/s" : ""}`;
}

export interface Bar {
  layer: string;
  us: number;
}

/** The mean time of an I/O by layer, from above down; layers without time are left out. */
export function bars(d: Direction): Bar[] {
  return d.bands.flatMap((b) => (b.mean_us ? [{ layer: b.layer, us: b.mean_us }] : []));
}

/** Whether I/O was timed on both sides; without that nothing is more or less. */
export const both = (a: Direction, b: Direction) => a.mean_us !== null && b.mean_us !== null;

/** The layer in which two sides are furthest apart, and by how much of the second against the first. */
export function furthest(a: Direction, b: Direction): { layer: string; us: number } | undefined {
  if (!both(a, b)) return undefined;
  const other = new Map(b.bands.map((x) => [x.layer, x.mean_us ?? 0]));
  let best: { layer: string; us: number } | undefined;
  for (const x of a.bands) {
    const us = (other.get(x.layer) ?? 0) - (x.mean_us ?? 0);
    if (!best || Math.abs(us) > Math.abs(best.us)) best = { layer: x.layer, us };
  }
  // A fiftieth of the whole is what two looks at the same differ by.
  return best && Math.abs(best.us) > 0.02 * Math.max(a.mean_us ?? 0, b.mean_us ?? 0) ? best : undefined;
}
