import type { Row } from "./types";

export interface MiniScale {
  top: number;
  greatest: number | null;
  mean: number | null;
  known: boolean;
}

/** The scale of a small chart: from zero to a little above the greatest. */
export function miniScale(row: Row): MiniScale {
  let [greatest, sum, n] = [0, 0, 0];
  for (const v of row) {
    if (v === null) continue;
    greatest = Math.max(greatest, v);
    sum += v;
    n++;
  }
  return {
    top: greatest > 0 ? greatest * 1.12 : 1,
    greatest: n ? greatest : null,
    mean: n ? sum / n : null,
    known: n > 0,
  };
}

/** Whether both figures of a pair are there. */
export const addable = (p: { before: number | null; during: number | null }): boolean =>
  p.before !== null && p.during !== null;
