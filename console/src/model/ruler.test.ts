import { describe, expect, it } from "vitest";
import { scaleTop, scaleWith, ticks } from "./ruler";

describe("the time ruler", () => {
  it.each([
    [30 * 60e3, 1000],
    [2 * 3600e3, 1060],
    [24 * 3600e3, 1060],
    [7 * 86400e3, 700],
  ])("labels %d ms over %d pixels without crowding", (length, pixels) => {
    const from = Date.parse("2026-03-02T14:07:00Z");
    const all = ticks(from, from + length, pixels);
    const labelled = all.filter((t) => t.label);
    expect(labelled.length).toBeGreaterThan(2);
    expect(labelled.length).toBeLessThan(12);
    for (let i = 1; i < labelled.length; i++) {
      const gap = (((labelled[i]?.at ?? 0) - (labelled[i - 1]?.at ?? 0)) / length) * pixels;
      expect(gap).toBeGreaterThanOrEqual(100);
    }
    for (const t of all) expect(t.at).toBeGreaterThanOrEqual(from);
  });
});

describe("scales", () => {
  it("holds the greatest value and rounds its lines", () => {
    const s = scaleTop([1, null, 14.2, 3]);
    expect(s.top).toBeGreaterThan(14.2);
    expect(s.lines).toEqual([5, 10]);
    expect(scaleTop([null, 0])).toEqual({ top: 1, lines: [] });
  });
  it("rounds bytes in powers of two", () => {
    expect(scaleTop([3.4 * 1024 * 1024], 2).lines.at(-1)).toBe(3 * 1024 * 1024);
  });
});

describe("a scale with a band behind", () => {
  it("shows the band, but does not flatten the values for it", () => {
    expect(scaleWith([100, null, 80], [120, null, 130]).top).toBeCloseTo(130 * 1.08);
    expect(scaleWith([100], [7000]).top).toBeCloseTo(200 * 1.08);
    expect(scaleWith([100]).top).toBeCloseTo(108);
    expect(scaleWith([null], [50]).top).toBeCloseTo(54);
  });
});
