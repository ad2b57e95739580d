import { useRef, useState } from "react";
import { lanesOf } from "../model/evidence";
import { clockSeconds } from "../model/format";
import type { Explanation } from "../model/types";
import { useWidth } from "../ui/useWidth";
import { Lane, laneHeight, margin } from "./Lane";

const gap = 16; // above each lane, for its label
const lead = 6; // below the ruler's figures

/** The readings a verdict rests on, on the time axis of the subject's latency: the component's, and what those moved who brought most. */
export function EvidenceLanes({ x }: { x: Explanation }) {
  const [ref, width] = useWidth<HTMLDivElement>();
  const svg = useRef<SVGSVGElement>(null);
  const [hover, setHover] = useState<number | null>(null);
  const lanes = lanesOf(x);
  const from = Date.parse(x.from);
  const n = lanes[0]?.row.length ?? 0;
  if (n === 0 || !x.step_s) return null;
  const to = from + n * x.step_s * 1000;
  const plot = Math.max(100, width - margin.left - margin.right);
  const at = (t: string) => ((Date.parse(t) - from) / (to - from)) * plot;
  const height = lanes.length * (laneHeight + gap) + lead + 4;
  const begun = x.onset && Date.parse(x.onset) >= from ? at(x.onset) : undefined;
  return (
    <figure ref={ref} data-testid="lanes" className="relative select-none">
      <svg
        ref={svg}
        role="img"
        aria-label={`Evidence on the same time axis: ${lanes.map((l) => l.label).join("; ")}`}
        width={width}
        height={height}
        className="block"
        onPointerMove={(e) => {
          const box = svg.current?.getBoundingClientRect();
          const k = box ? Math.floor(((e.clientX - box.left - margin.left) / plot) * n) : 0;
          setHover(k >= 0 && k < n ? k : null);
        }}
        onPointerLeave={() => setHover(null)}
      >
        <g transform={`translate(${margin.left} 0)`}>
          {begun !== undefined && (
            <line x1={begun} x2={begun} y1={0} y2={height} stroke="var(--magenta)" strokeWidth={1.3} />
          )}
          {x.until && Date.parse(x.until) < to && (
            <line
              x1={at(x.until)}
              x2={at(x.until)}
              y1={0}
              y2={height}
              stroke="var(--magenta)"
              strokeWidth={1}
              strokeDasharray="3 3"
            />
          )}
          {lanes.map((l, k) => (
            <Lane
              key={l.label}
              label={l.label}
              row={l.row}
              y={lead + gap + k * (laneHeight + gap)}
              width={plot}
              n={n}
              write={l.write}
              base={l.base}
              usual={l.usual}
              tone={l.accused ? "var(--magenta)" : "var(--ink)"}
              above
              at={hover ?? undefined}
            />
          ))}
          {hover !== null && (
            <g>
              <line
                x1={((hover + 0.5) / n) * plot}
                x2={((hover + 0.5) / n) * plot}
                y1={0}
                y2={height}
                stroke="var(--ink)"
                strokeOpacity={0.45}
              />
              <text x={plot + 8} y={11} fontSize={11} fill="var(--quiet)">
                {clockSeconds(from + (hover + 0.5) * x.step_s * 1000)}
              </text>
            </g>
          )}
        </g>
      </svg>
    </figure>
  );
}
