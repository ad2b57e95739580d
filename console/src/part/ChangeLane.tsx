import { useMemo } from "react";
import { clockSeconds, count } from "../model/format";
import { ticks } from "../model/ruler";
import type { Changes } from "../model/types";
import { fixed } from "../model/window";
import { useAddress } from "../ui/address";
import { Hint } from "../ui/Hint";
import { useWidth } from "../ui/useWidth";
import { Ruler } from "./StrataChart";

/** Marks along the window where the estate changed; a click goes to the time around one. */
export function ChangeLane({ changes: c, height, margin = 0 }: { changes: Changes; height: number; margin?: number }) {
  const [ref, width] = useWidth<HTMLDivElement>();
  const { change } = useAddress();
  const [from, to] = [Date.parse(c.from), Date.parse(c.to)];
  const plot = Math.max(100, width - margin);
  const x = (at: number) => ((at - from) / (to - from)) * plot;
  const marks = useMemo(() => ticks(from, to, plot), [from, to, plot]);
  const greatest = Math.max(1, ...c.moments.map((m) => m.count));
  return (
    <div ref={ref} className="relative" style={{ height: height + 24 }} data-testid="change-lane">
      <svg width={width} height={height + 24} aria-hidden="true" className="block">
        <Ruler marks={marks} x={x} y={height} width={plot} />
      </svg>
      {c.moments.map((m) => {
        const at = Date.parse(m.at);
        const size = 6 + 10 * Math.sqrt(m.count / greatest);
        const own = c.changes.filter((k) => k.at === m.at).slice(0, 4);
        return (
          <Hint
            key={m.at}
            side="top"
            text={
              <div className="space-y-0.5">
                <div className="font-semibold">
                  {clockSeconds(at)} · {count(m.count, "object changed", "objects changed")}
                </div>
                {own.map((k) => (
                  <div key={k.ref}>
                    {k.name}: {k.what[0]?.says}
                  </div>
                ))}
              </div>
            }
          >
            <button
              type="button"
              aria-label={`${clockSeconds(at)}, ${count(m.count, "object changed", "objects changed")}: look at the time around it`}
              onClick={() => change({ ...fixed({ from: at - 15 * 60e3, to: at + 15 * 60e3 }) })}
              className="absolute w-3 -translate-x-1/2 cursor-pointer"
              style={{ left: x(at), top: 0, height }}
            >
              <span
                className="absolute bottom-0 left-1/2 w-[3px] -translate-x-1/2 rounded-t-sm bg-ink"
                style={{ height: size + 6 }}
              />
            </button>
          </Hint>
        );
      })}
    </div>
  );
}
