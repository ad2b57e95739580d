import { micros } from "./format";
import type { Usual } from "./types";

/** A span of times in one unit: 0.90 to 1.40 ms. */
export function between(low: number | null, high: number | null): string {
  const [a, b] = [micros(low), micros(high)];
  const [unit, same] = [a.split(" ")[1], b.split(" ")[1]];
  return unit && unit === same ? `${a.split(" ")[0]} to ${b}` : `${a} to ${b}`;
}

/** What usual latency is, and what it rests on. */
export function ordinaryWords(u: Usual): string {
  return `What the same I/Os would take if each disk took what is usual for it at that hour: eight of ten readings lie between. It rests on ${u.words}.`;
}
