import { describe, expect, it } from "vitest";
import { metricWords, outsideWords, seenWords, topOf } from "./readings";
import { bandPath } from "./stack";
import type { Measured, MeasuredMetric } from "./types";

const measured = (row: (number | null)[], high: (number | null)[], unit = "share", strained: number | null = null) =>
  ({ row, usual: { high }, unit, limit: strained === null ? undefined : { strained } }) as unknown as MeasuredMetric;

describe("readings", () => {
  it("are named as one says them", () => {
    expect(metricWords("read_latency_us")).toBe("read latency");
    expect(metricWords("tx_bytes_s")).toBe("tx bytes a second");
    expect(metricWords("busy_share")).toBe("busy");
    expect(metricWords("write_iops")).toBe("write IOPS");
  });
  it("end a little above all that is drawn", () => {
    expect(topOf(measured([0.1, null, 0.2], [0.25]))).toBeCloseTo(0.27);
    expect(topOf(measured([0.7], []))).toBe(1);
    expect(topOf(measured([600], [null], "µs", 1000))).toBeCloseTo(1134);
    expect(topOf(measured([100], [null], "µs", 1000))).toBeCloseTo(108);
    expect(topOf(measured([0, null], []))).toBe(1);
  });
  it("have a band with gaps", () => {
    const plot = { width: 40, height: 10, top: 1, n: 4 };
    expect(bandPath([0.1, null, 0.1, 0.1], [0.2, 0.3, 0.2, 0.2], plot).match(/M/g)).toHaveLength(2);
    expect(bandPath([null], [null], { ...plot, n: 1 })).toBe("");
  });
  it("say on which side of usual they are", () => {
    expect(outsideWords({ above: 0.4, below: 0.1 })).toBe("above usual for 40 % of it");
    expect(outsideWords({ above: null, below: 0.2 })).toBe("below usual for 20 % of it");
  });
  it("say what their bands rest on", () => {
    const on = (basis: string, words = "") =>
      ({ weeks: 4, metrics: [{ usual: { basis, words } }] }) as unknown as Measured;
    expect(seenWords(on("hour of the week"))).toContain("4 weeks");
    expect(seenWords(on("hour of the day", "this hour of the day, seen on 8 days"))).toContain("8 days");
    expect(seenWords({ weeks: 0, metrics: [] })).toContain("not known yet");
  });
});
