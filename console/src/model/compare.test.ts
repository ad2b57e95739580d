import { describe, expect, it } from "vitest";
import { bars, figureWords, furthest, otherStart } from "./compare";
import type { Direction } from "./types";

const side = (...means: [string, number | null][]) =>
  ({
    mean_us: means.every(([, us]) => us === null) ? null : means.reduce((sum, [, us]) => sum + (us ?? 0), 0),
    bands: means.map(([layer, mean_us]) => ({ layer, mean_us })),
  }) as unknown as Direction;

describe("comparing", () => {
  it("goes back by the window, a day or a week", () => {
    expect(otherStart("before", 1000, 1500)).toBe(500);
    expect(otherStart("day", 86_400e3, 90_000e3)).toBe(0);
    expect(otherStart("week", 7 * 86_400e3, 8 * 86_400e3)).toBe(0);
    expect(otherStart("same", 1, 2)).toBeUndefined();
  });
  it("writes figures with their units", () => {
    expect(figureWords(1500, "µs")).toBe("1.50 ms");
    expect(figureWords(0.5, "share")).toBe("50 %");
    expect(figureWords(20, "1/s")).toMatch(/20(\.0)?\/s/);
    expect(figureWords(null, "count")).toBe("–");
  });
  it("finds the layer that differs most", () => {
    const a = side(["host", 100], ["fabric", null], ["back end", 400]);
    const b = side(["host", 90], ["fabric", 50], ["back end", 4000]);
    expect(furthest(a, b)).toEqual({ layer: "back end", us: 3600 });
    expect(furthest(a, a)).toBeUndefined();
    expect(furthest(a, side(["host", null], ["back end", null]))).toBeUndefined();
    expect(bars(a).map((x) => x.layer)).toEqual(["host", "back end"]);
  });
});
