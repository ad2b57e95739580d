import { clock, day, lasting } from "./format";
import type { IncidentInfo, System } from "./types";

/** When an incident began and how long it lasted, as "now, 46 min" or "Sat 21 Nov, 06:45, 2 h 20 min". */
export function whenWords(i: Pick<IncidentInfo, "onset" | "seen" | "ended">, now: number): string {
  const onset = Date.parse(i.onset);
  if (!i.ended) return `now, ${lasting((Date.parse(i.seen) - onset) / 1000)}`;
  const long = lasting((Date.parse(i.ended) - onset) / 1000);
  const today = new Date(now).toDateString() === new Date(onset).toDateString();
  return today ? `${clock(onset)}, ${long}` : `${day(onset)}, ${clock(onset)}, ${long}`;
}

/** The mark of an incident: failing while it lasts and hurts many, strained while it hurts few, none when it is over. */
export function markOf(i: Pick<IncidentInfo, "ended" | "sufferers">): "failing" | "strained" | "" {
  if (i.ended) return "";
  return i.sufferers > 3 ? "failing" : "strained";
}

/** Who was hurt, in words. */
export function hurtWords(i: Pick<IncidentInfo, "sufferers" | "tiers">): string {
  const first = i.tiers.find((t) => t.tier === "1")?.vms ?? 0;
  const all = `${i.sufferers} ${i.sufferers === 1 ? "VM" : "VMs"}`;
  return first ? `${all}, ${first} of tier 1` : all;
}

/** Whether incidents are still being looked for in what was read a while ago. */
export function behind(until: string | null | undefined, now: number): boolean {
  return !until || now - Date.parse(until) > 10 * 60e3;
}

/** Whether anything of a system is marked, or hurt somebody. */
export const marked = (s: Pick<System, "rows" | "hurt">) => s.hurt > 0 || s.rows.some((r) => r.marks.length > 0);

/** Whether a system is meant by what was typed: every word is in its name, its kind or its address. */
export function matches(s: Pick<System, "name" | "about" | "ref">, typed: string): boolean {
  const text = `${s.name} ${s.about} ${s.ref}`.toLowerCase();
  return typed
    .toLowerCase()
    .split(/\s+/)
    .every((word) => text.includes(word));
}
