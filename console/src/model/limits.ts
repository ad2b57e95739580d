import { count, lasting, micros, percent } from "./format";
import { metricWords } from "./readings";
import type { LimitInForce, StretchInfo } from "./types";

/** A level of a limit as it is written and typed: 85 %, 2.00 ms, 0.01, never. */
export function levelWords(v: number | null, unit: LimitInForce["unit"]): string {
  if (v === null) return "never";
  if (unit === "share") return percent(v);
  if (unit === "µs") return micros(v);
  return String(Number(v.toPrecision(3)));
}

const suffixes: [string, number][] = [
  ["%", 0.01],
  ["µs", 1],
  ["us", 1],
  ["ms", 1e3],
  ["s", 1e6],
  ["", 1],
];

/** Reads a level back: null is never, undefined is what cannot be read. */
export function readLevel(text: string): number | null | undefined {
  const t = text.trim();
  if (t === "never") return null;
  for (const [suffix, times] of suffixes) {
    if (!t.endsWith(suffix)) continue;
    const number = t.slice(0, t.length - suffix.length).trim();
    if (!/^\d+(\.\d+)?$/.test(number)) return undefined;
    return Number((Number(number) * times).toPrecision(12));
  }
  return undefined;
}

/** What is wrong with two levels, empty where nothing is. */
export function levelFault(strained: string, failing: string): string {
  const [a, b] = [readLevel(strained), readLevel(failing)];
  if (a === undefined || b === undefined) return "Write a share as 85 %, a time as 2 ms, a rate as 0.5, or never.";
  if (a !== null && b !== null && b < a) return "Failing lies below strained: swap them.";
  return "";
}

const layers = ["guest", "host", "datastore", "fabric", "front end", "back end"];

/** Limits by layer, from above down. */
export function byLayer(of: LimitInForce[]): { layer: string; limits: LimitInForce[] }[] {
  return layers
    .map((layer) => ({ layer, limits: of.filter((x) => x.layer === layer) }))
    .filter((g) => g.limits.length > 0);
}

/** How long an object was past a limit, in words. */
export function pastWords(x: Pick<StretchInfo, "from" | "to" | "lasts" | "broken">): string {
  const long = lasting((Date.parse(x.to) - Date.parse(x.from)) / 1000);
  if (x.broken) return `${long}, then silent`;
  return x.lasts ? `${long} so far` : long;
}

/** What else is known of a stretch: parts that were past it too, and who depends on it. */
export function onIt(x: Pick<StretchInfo, "parts" | "vms" | "kind">): string {
  const parts = x.parts ? `${count(x.parts, "part of it", "parts of it")} too` : "";
  const vms = x.vms && x.kind !== "vm" ? `${count(x.vms, "VM depends", "VMs depend")} on it` : "";
  return [parts, vms].filter(Boolean).join(" · ");
}

/** What a change of a limit is about: "controller: busy, in heron". */
export function changedWords(
  c: { kind: string; metric: string; within?: string },
  known: Pick<LimitInForce, "kind" | "metric" | "label" | "aspect">[],
): string {
  const same = known.filter((l) => l.kind === c.kind);
  const label = same[0]?.label ?? c.kind.replaceAll("_", " ");
  const aspect = same.find((l) => l.metric === c.metric)?.aspect ?? metricWords(c.metric);
  return `${label}: ${aspect}${c.within ? `, in ${c.within}` : ", everywhere"}`;
}
