import { scaleWith } from "../model/ruler";
import { bandPath, linePath } from "../model/stack";
import type { Row } from "../model/types";

/** What every chart on the time axis leaves free at its sides, so that all stand above each other. */
export const margin = { left: 24, right: 88 };
export const laneHeight = 26;

/** A round figure without its trailing zeros: 10.0 ms is 10 ms. */
export const short = (text: string) => text.replace(/\.0+(?= |$)/, "").replace(/(\.\d)0(?= |$)/, "$1");

/** One figure through time, on the axis of the chart above it. */
export function Lane({
  label,
  row,
  y,
  width,
  n,
  write,
  base = 10,
  tone = "var(--ink)",
  above,
  at,
  usual,
}: {
  label: string;
  row: Row;
  y: number;
  width: number;
  n: number;
  write: (v: number) => string;
  base?: 10 | 2;
  tone?: string;
  above?: boolean; // its label stands above it, where it hides nothing
  at?: number; // the cell whose figure is told instead of the scale
  usual?: { low: Row; high: Row }; // eight of ten readings at that hour lie between
}) {
  const scale = scaleWith(row, usual?.high, base);
  const shape = { width, height: laneHeight, top: scale.top, n };
  const top = scale.lines[scale.lines.length - 1];
  return (
    <g transform={`translate(0 ${y})`}>
      <line x1={0} x2={width} y1={laneHeight} y2={laneHeight} stroke="var(--line)" />
      {at !== undefined && (
        <text x={width + 8} y={laneHeight - 8} fontSize={11} fontWeight={600} fill={tone}>
          {write(row[at] ?? Number.NaN)}
        </text>
      )}
      {at === undefined && top !== undefined && (
        <text x={width + 8} y={laneHeight - (top / scale.top) * laneHeight + 4} fontSize={11} fill="var(--quiet)">
          {short(write(top))}
        </text>
      )}
      {usual && <path d={bandPath(usual.low, usual.high, shape)} fill="var(--water)" opacity={0.3} />}
      <path d={linePath(row, shape)} fill="none" stroke={tone} strokeWidth={1.2} />
      <text
        x={0}
        y={above ? -3 : laneHeight - 3}
        fontSize={10.5}
        fill="var(--quiet)"
        stroke="var(--paper)"
        strokeWidth={3}
        paintOrder="stroke"
      >
        {label}
      </text>
    </g>
  );
}
