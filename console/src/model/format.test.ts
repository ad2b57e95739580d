import { describe, expect, it } from "vitest";
import { bytes, count, lasting, micros, percent, rate, signed, sure } from "./format";
import cases from "./format.cases.json";

describe("figures", () => {
  it.each([
    [micros(640), "640 µs"],
    [micros(14210), "14.2 ms"],
    [micros(999.7), "1.00 ms"],
    [micros(1.2e6), "1.20 s"],
    [micros(0.2), "0 µs"],
    [micros(null), "–"],
    [micros(Number.NaN), "–"],
    [bytes(262144), "256 KiB"],
    [bytes(1023), "1.00 KiB"],
    [rate(1840), "1,840"],
    [rate(20400), "20.4 k"],
    [rate(undefined), "–"],
    [percent(0.974), "97 %"],
    [percent(0.0001), "<0.1 %"],
    [percent(0), "0 %"],
    [lasting(46 * 60 + 59), "46 min"],
    [lasting(7800), "2 h 10 min"],
    [count(1, "VM", "VMs"), "1 VM"],
    [count(1200, "VM", "VMs"), "1,200 VMs"],
  ])("%s", (got, want) => expect(got).toBe(want));

  it("signs differences, and zero has none", () => {
    expect(signed(12400, micros)).toBe("+12.4 ms");
    expect(signed(-22, rate)).toBe("−22.0");
    expect(signed(0.1, micros)).toBe("0 µs");
    expect(signed(-0.001, rate)).toBe("0.00");
    expect(signed(null, micros)).toBe("–");
  });
});

// The command line writes the same figures in the same words: core/phrase is held against this table too.
describe("the same words as the command line", () => {
  const write = { micros, bytes, rate, percent };
  for (const [name, list] of Object.entries(cases))
    it.each(list as [number, string][])(`${name} %d`, (value, text) =>
      expect(write[name as keyof typeof write](value)).toBe(text),
    );
});

describe("confidence", () => {
  it("is never said to be more than it is", () => {
    expect([0.29, 0.945, 0.99, 0.995, 0.9999].map(sure)).toEqual(["29 %", "94 %", "99 %", "99 %", "99 %"]);
    expect(sure(null)).toBe("–");
  });
});
