// Figures as people read them: three significant digits, units always, a dash for what is not there.

type Maybe = number | null | undefined;

const missing = (n: Maybe): n is null | undefined => n === null || n === undefined || !Number.isFinite(n);

function digits(n: number): string {
  const a = Math.abs(n);
  if (a < 1e-9) return "0";
  if (a < 9.995) return n.toFixed(2);
  if (a < 99.95) return n.toFixed(1);
  return n.toFixed(0);
}

export function micros(us: Maybe): string {
  if (missing(us)) return "–";
  const a = Math.abs(us);
  if (a < 0.9995) return "0 µs";
  if (a < 999.5) return `${digits(us)} µs`;
  if (a < 999.5e3) return `${digits(us / 1e3)} ms`;
  return `${digits(us / 1e6)} s`;
}

const byteUnits = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"];

export function bytes(n: Maybe): string {
  if (missing(n)) return "–";
  let [value, k] = [n, 0];
  while (Math.abs(value) >= 999.5 && k < byteUnits.length - 1) [value, k] = [value / 1024, k + 1];
  return `${digits(value)} ${byteUnits[k]}`;
}

export const byteRate = (n: Maybe) => (missing(n) ? "–" : `${bytes(n)}/s`);

export function rate(n: Maybe): string {
  if (missing(n)) return "–";
  const a = Math.abs(n);
  if (a < 999.5) return digits(n);
  if (a < 9999.5) return n.toFixed(0).replace(/(\d)(\d{3})$/, "$1,$2");
  if (a < 999.5e3) return `${digits(n / 1e3)} k`;
  return `${digits(n / 1e6)} M`;
}

export function percent(share: Maybe): string {
  if (missing(share)) return "–";
  const p = share * 100;
  if (p !== 0 && Math.abs(p) < 0.05) return "<0.1 %";
  return `${Math.abs(p) >= 9.95 || p === 0 ? p.toFixed(0) : p.toFixed(1)} %`;
}

/** A confidence, never as more than it is: 99.5 % is 99 %, for nothing is certain. */
export const sure = (confidence: Maybe) => (missing(confidence) ? "–" : `${Math.floor(confidence * 100 + 1e-9)} %`);

/** A figure with its sign, as a difference. */
export function signed(n: Maybe, write: (n: Maybe) => string): string {
  if (missing(n)) return "–";
  const text = write(Math.abs(n));
  if (/^0(\.0+)?( |$)/.test(text)) return text;
  return n < 0 ? `−${text}` : `+${text}`;
}

export function lasting(seconds: number): string {
  const s = Math.round(seconds);
  if (s < 120) return `${s} s`;
  if (s < 7200) return `${Math.floor(s / 60)} min`;
  const [h, m] = [Math.floor(s / 3600), Math.floor((s % 3600) / 60)];
  return m === 0 ? `${h} h` : `${h} h ${m} min`;
}

const clockFormat = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit" });
const dayFormat = new Intl.DateTimeFormat("en-GB", { weekday: "short", day: "numeric", month: "short" });
const secondFormat = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });

export const clock = (at: number | Date) => clockFormat.format(at);
export const clockSeconds = (at: number | Date) => secondFormat.format(at);
export const day = (at: number | Date) => dayFormat.format(at);
export const zone = () => Intl.DateTimeFormat().resolvedOptions().timeZone;

/** A window in words: 14:20–16:20, or with its days where it spans them. */
export function windowWords(from: number, to: number): string {
  if (day(from) === day(to)) return `${clock(from)}–${clock(to)}, ${day(to)}`;
  return `${day(from)} ${clock(from)} – ${day(to)} ${clock(to)}`;
}

/** "1 VM", "41 VMs". */
export const count = (n: number, one: string, many: string) => `${n.toLocaleString("en-GB")} ${n === 1 ? one : many}`;
