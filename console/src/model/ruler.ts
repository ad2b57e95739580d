// Ticks of the time ruler: round local times, far enough apart for their labels.

export interface Tick {
  at: number; // ms
  label: string; // "" for a minor tick
}

const minute = 60e3;
const steps = [1, 2, 5, 10, 15, 20, 30, 60, 120, 180, 360, 720, 1440, 2880, 10080].map((m) => m * minute);

/** Ticks within [from, to) for a ruler of so many pixels: labelled ones at least `room` apart. */
export function ticks(from: number, to: number, pixels: number, room = 110): Tick[] {
  const perPixel = (to - from) / Math.max(1, pixels);
  const major = steps.find((s) => s / perPixel >= room) ?? steps[steps.length - 1] ?? minute;
  const minor = major / (major % 4 === 0 && major / minute >= 4 ? 4 : 2);
  const offset = -new Date(from).getTimezoneOffset() * minute; // local time is what is round
  const out: Tick[] = [];
  for (let k = Math.ceil((from + offset) / minor); k * minor - offset <= to; k++) {
    const at = k * minor - offset;
    out.push({ at, label: (k * minor) % major === 0 ? label(at, major) : "" });
  }
  return out;
}

const time = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit" });
const date = new Intl.DateTimeFormat("en-GB", { weekday: "short", day: "numeric" });

function label(at: number, major: number): string {
  const text = time.format(at);
  return text === "00:00" || major >= 1440 * minute ? date.format(at) : text;
}

/** The scale of a chart from zero: a little above the greatest value, with up to four round gridlines. Bytes are
 *  round in powers of two. */
export function scaleTop(values: (number | null)[], base: 10 | 2 = 10): { top: number; lines: number[] } {
  let greatest = 0;
  for (const v of values) if (v !== null && v > greatest) greatest = v;
  if (greatest === 0) return { top: 1, lines: [] };
  const unit = base === 2 ? 1024 ** Math.floor(Math.log(greatest) / Math.log(1024)) : 1;
  const power = 10 ** Math.floor(Math.log10(greatest / unit)) * unit;
  const step = [0.2, 0.5, 1, 2, 5].map((f) => f * power).find((s) => greatest / s <= 4) ?? power * 5;
  const lines: number[] = [];
  for (let v = step; v <= greatest * 1.001; v += step) lines.push(v);
  // A thousand KiB would be labelled in the next unit, as 0.98 MiB: no line there.
  const round = base === 2 ? lines.filter((v) => v / unit < 999.5) : lines;
  return { top: greatest * 1.08, lines: round.slice(0, 4) };
}

/** The scale of a chart that has a band behind its values: the band counts, but not so far that the values become flat. */
export function scaleWith(values: (number | null)[], band: (number | null)[] = [], base: 10 | 2 = 10) {
  let greatest = 0;
  for (const v of values) if (v !== null && v > greatest) greatest = v;
  return scaleTop(
    [...values, ...band.map((v) => (v === null || greatest === 0 ? v : Math.min(v, 2 * greatest)))],
    base,
  );
}
