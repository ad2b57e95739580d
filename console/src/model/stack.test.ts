import { describe, expect, it } from "vitest";
import { csv } from "./csv";
import { miniScale } from "./mini";
import { linePath, stackPaths } from "./stack";
import type { Band } from "./types";

const band = (layer: string, time_us: (number | null)[]): Band => ({
  layer,
  time_us,
  mean_us: null,
  usual_us: null,
  during_us: null,
  added_us: null,
});

describe("stacked layers", () => {
  const plot = { width: 100, height: 50, top: 10, n: 2 };
  it("puts the deepest at the bottom and each upon the next", () => {
    const paths = stackPaths([band("guest", [2, 2]), band("back end", [5, 5])], plot);
    expect(paths.map((p) => p.layer)).toEqual(["back end", "guest"]);
    expect(paths[0]?.d).toContain("50"); // its foot is the axis
    expect(paths[0]?.d).toContain(",25"); // 5 of 10
    expect(paths[1]?.d).toContain(",15"); // 7 of 10
  });
  it("leaves a gap where nothing is known", () => {
    const d = stackPaths([band("guest", [1, null, 1, 1])], { ...plot, n: 4 })[0]?.d ?? "";
    expect(d.match(/M/g)).toHaveLength(2);
    expect(linePath([1, null, 2], { ...plot, n: 3 }).match(/M/g)).toHaveLength(2);
  });
  it("scales small charts from zero", () => {
    expect(miniScale([null, 2, 4])).toMatchObject({ greatest: 4, mean: 3, known: true });
    expect(miniScale([null])).toMatchObject({ known: false, greatest: null });
  });
});

describe("csv", () => {
  it("quotes, keeps gaps empty, and hands spreadsheets no formula", () => {
    expect(
      csv([
        ["a,b", 1.5, null],
        ['say "x"', -2, "=1+1"],
      ]),
    ).toBe('"a,b",1.5,\r\n"say ""x""",-2,\'=1+1\r\n');
  });
});
