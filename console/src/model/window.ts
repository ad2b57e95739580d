// A window of time as it stands in the address bar: RFC 3339, or back from now as -2h.

export interface Span {
  from: number; // ms
  to: number;
}

export interface WindowText {
  from?: string;
  to?: string;
}

const relative = /^-(\d+(?:\.\d+)?)(s|m|h|d)$/;
const unit: Record<string, number> = { s: 1e3, m: 60e3, h: 3600e3, d: 86400e3 };

/** The moment a text stands for, undefined where it is none. */
export function moment(text: string | undefined, now: number): number | undefined {
  if (!text) return undefined;
  if (text === "now") return now;
  const back = relative.exec(text);
  if (back) return now - Number(back[1]) * (unit[back[2] ?? ""] ?? 0);
  const at = Date.parse(text);
  return Number.isNaN(at) ? undefined : at;
}

/** The window a text stands for; the last two hours where it says nothing. */
export function span(text: WindowText, now: number): Span {
  const to = moment(text.to, now) ?? now;
  return { from: moment(text.from, now) ?? to - 2 * 3600e3, to };
}

/** Whether a window moves on with the clock. */
export function moving(text: WindowText): boolean {
  return !text.to && (!text.from || relative.test(text.from));
}

export function fixed({ from, to }: Span): WindowText {
  const text = (at: number) => new Date(Math.round(at / 1000) * 1000).toISOString().replace(".000Z", "Z");
  return { from: text(from), to: text(to) };
}

/** The window moved by a part of its length; it stops at now, and then moves with the clock again. */
export function shift(text: WindowText, part: number, now: number): WindowText {
  const { from, to } = span(text, now);
  const by = (to - from) * part;
  if (to + by >= now - 1000) return last(to - from);
  return fixed({ from: from + by, to: to + by });
}

/** The window made longer (factor above 1) or shorter around its middle. */
export function zoom(text: WindowText, factor: number, now: number): WindowText {
  const { from, to } = span(text, now);
  const length = Math.min(35 * 86400e3, Math.max(5 * 60e3, (to - from) * factor));
  if (moving(text)) return last(length);
  const middle = (from + to) / 2;
  return middle + length / 2 >= now ? last(length) : fixed({ from: middle - length / 2, to: middle + length / 2 });
}

/** The last so many ms, moving with the clock. */
export function last(length: number): WindowText {
  const minutes = Math.max(5, Math.round(length / 60e3));
  return { from: minutes % 60 === 0 ? `-${minutes / 60}h` : `-${minutes}m` };
}
