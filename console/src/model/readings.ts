import { count, percent } from "./format";
import type { Measured, MeasuredMetric } from "./types";

/** A metric as one says it. */
export const metricWords = (m: string) =>
  m
    .replace(/_us$/, "")
    .replace(/_s$/, " a second")
    .replace(/_share$/, "")
    .replaceAll("_", " ")
    .replace("iops", "IOPS");

/** What the bands rest on, in a clause. */
export function seenWords(m: Pick<Measured, "weeks" | "metrics">): string {
  const basis = m.metrics[0]?.usual.basis ?? "nothing";
  if (basis === "nothing") return "What is usual is not known yet: six hours of readings are needed.";
  if (basis === "hour of the week")
    return `Bands are of this hour of the week, from ${count(m.weeks, "week", "weeks")}.`;
  const words = m.metrics[0]?.usual.words ?? "";
  return `Bands are of ${words}.`;
}

/** Where a chart ends: a little above all that is drawn; shares that come near the whole end there. */
export function topOf(x: Pick<MeasuredMetric, "row" | "usual" | "limit" | "unit">): number {
  let most = 0;
  for (const row of [x.row, x.usual.high]) for (const v of row) if (v !== null && v > most) most = v;
  const limit = x.limit?.strained ?? null;
  if (limit !== null && most > limit * 0.5) most = Math.max(most, limit * 1.05);
  if (x.unit === "share" && most > 0.5) return 1;
  return most > 0 ? most * 1.08 : 1;
}

/** On which side of its band a figure is, and for how much of the window. */
export function outsideWords(x: Pick<MeasuredMetric, "above" | "below">): string {
  const [above, below] = [x.above ?? 0, x.below ?? 0];
  return above >= below ? `above usual for ${percent(above)} of it` : `below usual for ${percent(below)} of it`;
}
