import { describe, expect, it } from "vitest";
import { lanesOf, laneWords } from "./evidence";
import type { Explanation } from "./types";

const trace = [1, null, 3];

function explanation(of: Partial<Explanation>): Explanation {
  return { evidence: [], suspects: [], ...of } as Explanation;
}

const sign = (name: string, metric: string, unit: string, row: (number | null)[] | undefined = trace) =>
  ({ of: `pool:${name}@array`, name, metric, unit, trace: row, words: "" }) as Explanation["evidence"][number];

const tenant = (name: string, accused: boolean, score = 0.5, row: (number | null)[] | undefined = trace) =>
  ({ ref: `vm:${name}@hyp`, name, accused, score, trace: row }) as Explanation["suspects"][number];

describe("lanes of evidence", () => {
  it("shows each reading once, and nothing that has no readings", () => {
    const lanes = lanesOf(
      explanation({
        evidence: [
          sign("p", "busy_share", "share"),
          sign("p", "busy_share", "share"),
          sign("q", "read_latency_us", "µs"),
          { ...sign("r", "", ""), trace: undefined },
        ],
      }),
    );
    expect(lanes.map((l) => l.label)).toEqual(["p: busy", "q: time per read"]);
    expect(lanes[0]?.write(0.5)).toBe("50 %");
    expect(lanes[1]?.write(1500)).toBe("1.50 ms");
  });
  it("shows who is accused, and only those", () => {
    const lanes = lanesOf(explanation({ suspects: [tenant("a", true), tenant("b", false), tenant("c", true)] }));
    expect(lanes.map((l) => [l.label, l.accused])).toEqual([
      ["a: data rate", true],
      ["c: data rate", true],
    ]);
  });
  it("shows who brought most where nobody is accused", () => {
    const lanes = lanesOf(explanation({ suspects: [tenant("a", false), tenant("b", false)] }));
    expect(lanes.map((l) => [l.label, l.accused])).toEqual([["a: data rate", false]]);
    expect(lanesOf(explanation({ suspects: [tenant("a", false, 0)] }))).toEqual([]);
  });
  it("keeps what is usual beside the reading it belongs to", () => {
    const usual = { low: [1, 1, 1], mid: [2, 2, 2], high: [3, 3, 3] };
    const lanes = lanesOf(
      explanation({
        evidence: [{ ...sign("p", "busy_share", "share"), usual } as never, sign("q", "busy_share", "share")],
        suspects: [tenant("a", true)],
      }),
    );
    expect(lanes.map((l) => l.usual)).toEqual([usual, undefined, undefined]);
  });
  it("has words for metrics it does not know", () => {
    expect(laneWords("read_bytes_s")).toBe("read bytes");
    expect(laneWords("busy_share")).toBe("busy");
  });
});
