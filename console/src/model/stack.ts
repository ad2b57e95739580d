import { area, line } from "d3-shape";
import type { Band, Row } from "./types";

export interface Plot {
  width: number;
  height: number;
  top: number; // value at the upper edge
  n: number; // cells
}

const x = (p: Plot, i: number) => (i / p.n) * p.width;
const y = (p: Plot, v: number) => p.height - (Math.min(v, p.top) / p.top) * p.height;

/** The stacked areas of layers, the deepest at the bottom. Where the whole is not known there is a gap. */
export function stackPaths(bands: Band[], p: Plot): { layer: string; d: string }[] {
  const deepestFirst = [...bands].reverse();
  const base = new Array<number>(p.n).fill(0);
  const known = (i: number) => bands.some((b) => b.time_us[i] !== null && b.time_us[i] !== undefined);
  return deepestFirst.map((band) => {
    const lower = [...base];
    for (let i = 0; i < p.n; i++) base[i] = (base[i] ?? 0) + (band.time_us[i] ?? 0);
    const cells = Array.from({ length: p.n + 1 }, (_, i) => Math.min(i, p.n - 1)); // the last cell is drawn to its end
    const d = area<number>()
      .defined((i) => known(i))
      .x((_, k) => x(p, k))
      .y0((i) => y(p, lower[i] ?? 0))
      .y1((i) => y(p, base[i] ?? 0))(cells);
    return { layer: band.layer, d: d ?? "" };
  });
}

/** A line through a row; a gap where nothing is known. */
export function linePath(row: Row, p: Plot): string {
  const cells = Array.from({ length: p.n }, (_, i) => i);
  return (
    line<number>()
      .defined((i) => row[i] !== null && row[i] !== undefined)
      .x((i) => x(p, i + 0.5))
      .y((i) => y(p, row[i] ?? 0))(cells) ?? ""
  );
}

/** The area under a row. */
export function areaPath(row: Row, p: Plot): string {
  const cells = Array.from({ length: p.n }, (_, i) => i);
  return (
    area<number>()
      .defined((i) => row[i] !== null && row[i] !== undefined)
      .x((i) => x(p, i + 0.5))
      .y0(p.height)
      .y1((i) => y(p, row[i] ?? 0))(cells) ?? ""
  );
}

/** The area between two rows; a gap where either is not known. */
export function bandPath(low: Row, high: Row, p: Plot): string {
  const cells = Array.from({ length: p.n + 1 }, (_, i) => Math.min(i, p.n - 1));
  return (
    area<number>()
      .defined((i) => low[i] !== null && low[i] !== undefined && high[i] !== null && high[i] !== undefined)
      .x((_, k) => x(p, k))
      .y0((i) => y(p, low[i] ?? 0))
      .y1((i) => y(p, high[i] ?? 0))(cells) ?? ""
  );
}
