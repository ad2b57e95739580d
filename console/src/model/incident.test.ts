import { describe, expect, it, test } from "vitest";
import { behind, hurtWords, marked, markOf, matches, whenWords } from "./incident";

const now = Date.parse("2026-03-02T16:20:00Z");

describe("an incident in words", () => {
  test("one that lasts says how long so far", () => {
    expect(whenWords({ onset: "2026-03-02T15:34:00Z", seen: "2026-03-02T16:20:00Z", ended: null }, now)).toBe(
      "now, 46 min",
    );
  });
  test("one that is over says when it was", () => {
    const over = { onset: "2026-02-28T06:45:00Z", seen: "2026-02-28T09:05:00Z", ended: "2026-02-28T09:05:00Z" };
    expect(whenWords(over, now)).toMatch(/28 Feb.*, \d\d:45, 2 h 20 min$/);
  });
  test("marks are for what lasts", () => {
    expect(markOf({ ended: null, sufferers: 9 })).toBe("failing");
    expect(markOf({ ended: null, sufferers: 2 })).toBe("strained");
    expect(markOf({ ended: "2026-02-28T09:05:00Z", sufferers: 9 })).toBe("");
  });
  test("who was hurt", () => {
    expect(hurtWords({ sufferers: 1, tiers: [{ tier: "2", vms: 1 }] })).toBe("1 VM");
    expect(hurtWords({ sufferers: 9, tiers: [{ tier: "1", vms: 4 }] })).toBe("9 VMs, 4 of tier 1");
  });
  test("what is not caught up with", () => {
    expect(behind(null, now)).toBe(true);
    expect(behind("2026-03-02T15:00:00Z", now)).toBe(true);
    expect(behind("2026-03-02T16:18:00Z", now)).toBe(false);
  });
});

describe("systems", () => {
  it("are marked where a limit was passed or somebody was hurt", () => {
    expect(marked({ hurt: 0, rows: [] })).toBe(false);
    expect(marked({ hurt: 2, rows: [] })).toBe(true);
    expect(marked({ hurt: 0, rows: [{ marks: [{}] }] } as never)).toBe(true);
  });
  it("are found by any word of theirs", () => {
    const s = { name: "Northmole cluster", about: "cluster · 6 hosts", ref: "cluster:c@hyp-northmole-7" };
    expect(matches(s, "")).toBe(true);
    expect(matches(s, "north 7")).toBe(true);
    expect(matches(s, "south")).toBe(false);
  });
});
