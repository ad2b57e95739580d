import { describe, expect, it } from "vitest";
import type { Usual } from "./types";
import { between, ordinaryWords } from "./usual";

describe("what is usual", () => {
  it("is a span with its unit once, where it is the same", () => {
    expect(between(640, 990)).toBe("640 to 990 µs");
    expect(between(640, 1200)).toBe("640 µs to 1.20 ms");
    expect(between(null, 1200)).toBe("– to 1.20 ms");
    expect(between(null, null)).toBe("– to –");
  });
  it("says what it rests on", () => {
    const u = { low: [], mid: [], high: [], basis: "all hours", seen: 7, words: "all of 7 hours seen" } as Usual;
    expect(ordinaryWords(u)).toContain("It rests on all of 7 hours seen.");
  });
});
