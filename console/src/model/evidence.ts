import { byteRate, micros, percent, rate } from "./format";
import type { Explanation, Row } from "./types";

/** A row of readings that a verdict rests on. */
export interface EvidenceLane {
  label: string;
  row: Row;
  write: (v: number) => string;
  base: 10 | 2;
  accused: boolean;
  usual?: { low: Row; high: Row }; // eight of ten readings at that hour lie between
}

const writers: Record<string, (v: number) => string> = {
  share: percent,
  µs: micros,
  "B/s": byteRate,
  "1/s": (v) => `${rate(v)} /s`,
};

const metricWords: Record<string, string> = {
  busy_share: "busy",
  steal_share: "of the time kept waiting for a processor",
  utilization: "of line rate",
  allowed_share: "of what it is allowed",
  credit_zero_share: "of the time without a credit",
  queue_latency_us: "wait for a place in the queue",
  write_pending_share: "of the write cache pending",
  crc_errors_s: "damaged frames",
  discards_s: "dropped frames",
  round_trip_us: "round trip",
  read_latency_us: "time per read",
  write_latency_us: "time per write",
};

/** What a metric is called on a lane. */
export function laneWords(metric: string): string {
  return metricWords[metric] ?? metric.replace(/_(s|us|share)$/, "").replaceAll("_", " ");
}

/** The rows of an explanation that can be put on one time axis: the strongest evidence, each once, then who is accused or brought most. */
export function lanesOf(x: Explanation): EvidenceLane[] {
  const out: EvidenceLane[] = [];
  const seen = new Set<string>();
  for (const e of x.evidence) {
    const key = `${e.of} ${e.metric}`;
    if (!e.trace?.length || seen.has(key)) continue;
    seen.add(key);
    out.push({
      label: `${e.name}: ${laneWords(e.metric ?? "")}`,
      row: e.trace,
      write: writers[e.unit ?? ""] ?? rate,
      base: e.unit === "B/s" ? 2 : 10,
      accused: false,
      usual: e.usual,
    });
  }
  const accused = x.suspects.filter((s) => s.accused && s.trace?.length);
  const tenants = accused.length ? accused : x.suspects.filter((s) => s.trace?.length && s.score).slice(0, 1);
  for (const s of tenants)
    out.push({ label: `${s.name}: data rate`, row: s.trace ?? [], write: byteRate, base: 2, accused: s.accused });
  return out;
}
