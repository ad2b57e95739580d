import { describe, expect, it } from "vitest";
import { byLayer, changedWords, levelFault, levelWords, onIt, pastWords, readLevel } from "./limits";
import type { LimitInForce } from "./types";

describe("levels", () => {
  it("are read as they are written", () => {
    for (const [v, unit] of [
      [0.85, "share"],
      [2000, "µs"],
      [0.01, "1/s"],
      [null, "share"],
    ] as const)
      expect(readLevel(levelWords(v, unit))).toBe(v);
    expect(readLevel("85%")).toBe(0.85);
    expect(readLevel("1.5 s")).toBe(1.5e6);
    expect(readLevel("lots")).toBeUndefined();
    expect(readLevel("-3")).toBeUndefined();
    expect(readLevel("")).toBeUndefined();
  });
  it("are checked", () => {
    expect(levelFault("80 %", "95 %")).toBe("");
    expect(levelFault("80 %", "never")).toBe("");
    expect(levelFault("80 %", "50 %")).toContain("swap");
    expect(levelFault("x", "50 %")).toContain("Write");
  });
});

describe("limits", () => {
  it("stand by layer, from above down", () => {
    const l = (layer: string) => ({ layer }) as LimitInForce;
    expect(byLayer([l("back end"), l("guest"), l("back end")]).map((g) => [g.layer, g.limits.length])).toEqual([
      ["guest", 1],
      ["back end", 2],
    ]);
  });
  it("were passed for so long", () => {
    const x = { from: "2026-03-02T10:00:00Z", to: "2026-03-02T10:30:00Z", lasts: true, broken: false };
    expect(pastWords(x)).toBe("30 min so far");
    expect(pastWords({ ...x, lasts: false })).toBe("30 min");
    expect(pastWords({ ...x, lasts: false, broken: true })).toContain("silent");
    expect(onIt({ parts: 1, vms: 0, kind: "pool" })).toBe("1 part of it too");
    expect(onIt({ parts: 0, vms: 2, kind: "pool" })).toBe("2 VMs depend on it");
    expect(onIt({ parts: 0, vms: 1, kind: "vm" })).toBe("");
  });
  it("say what a change is about", () => {
    const known = [
      { kind: "hba_port", metric: "credit_zero_share", label: "host adapter port", aspect: "credits" },
    ] as never;
    expect(changedWords({ kind: "hba_port", metric: "credit_zero_share" }, known)).toBe(
      "host adapter port: credits, everywhere",
    );
    expect(changedWords({ kind: "switch_port", metric: "busy_share", within: "heron" }, known)).toBe(
      "switch port: busy, in heron",
    );
  });
});
