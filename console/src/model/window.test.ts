import { describe, expect, it } from "vitest";
import { fixed, last, moment, moving, shift, span, zoom } from "./window";

const now = Date.parse("2026-03-02T16:20:00Z");
const hour = 3600e3;

describe("windows in the address bar", () => {
  it("reads moments", () => {
    expect(moment("-2h", now)).toBe(now - 2 * hour);
    expect(moment("-90m", now)).toBe(now - 1.5 * hour);
    expect(moment("2026-03-02T16:00:00Z", now)).toBe(now - hour / 3);
    expect(moment("now", now)).toBe(now);
    expect(moment("yesterday", now)).toBeUndefined();
    expect(moment(undefined, now)).toBeUndefined();
  });
  it("is the last two hours where it says nothing", () => {
    expect(span({}, now)).toEqual({ from: now - 2 * hour, to: now });
    expect(moving({})).toBe(true);
    expect(moving({ from: "-8h" })).toBe(true);
    expect(moving({ from: "2026-03-02T16:00:00Z" })).toBe(false);
    expect(moving({ from: "-8h", to: "-2h" })).toBe(false);
  });
  it("moves back by its part, keeps its length, and stops at now", () => {
    const back = shift({}, -0.5, now);
    expect(back).toEqual({ from: "2026-03-02T13:20:00Z", to: "2026-03-02T15:20:00Z" });
    const further = span(shift(back, -0.25, now), now);
    expect(further.to - further.from).toBe(2 * hour);
    expect(shift(back, 0.5, now)).toEqual(last(2 * hour));
    expect(moving(shift(back, 9, now))).toBe(true);
  });
  it("zooms between five minutes and five weeks", () => {
    expect(zoom({}, 0.5, now)).toEqual({ from: "-1h" });
    expect(zoom({ from: "-5m" }, 0.5, now)).toEqual({ from: "-5m" });
    const past = fixed({ from: now - 10 * hour, to: now - 8 * hour });
    const wider = span(zoom(past, 2, now), now);
    expect(wider.to - wider.from).toBe(4 * hour);
    expect((wider.to + wider.from) / 2).toBe(now - 9 * hour);
  });
});
