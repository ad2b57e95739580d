/** What the address bar holds: the object, the window, the direction of I/O, and the source that is unfolded. */
export interface Search {
  of?: string;
  from?: string;
  to?: string;
  dir?: "read" | "write";
  /** A source's name, or "+" for one that is being added. */
  source?: string;
  /** Groups of a large section that are shown by their members, one after another with | between. */
  unfold?: string;
  /** An inventory: the kind, its conditions with ; between, text to find, and the column to sort by. */
  kind?: string;
  where?: string;
  q?: string;
  sort?: string;
  /** The number of an incident. */
  no?: string;
  /** What is compared with: another object, and another window. */
  with?: string;
  beside?: string;
}

const text = (v: unknown) => (typeof v === "string" && v.length > 0 && v.length < 700 ? v : undefined);

export function readSearch(raw: Record<string, unknown>): Search {
  const dir = raw.dir === "read" || raw.dir === "write" ? raw.dir : undefined;
  const search: Search = { of: text(raw.of), from: text(raw.from), to: text(raw.to), dir, source: text(raw.source) };
  for (const name of ["unfold", "kind", "where", "q", "sort", "no", "with", "beside"] as const) {
    const value = typeof raw[name] === "string" && raw[name].length < 8000 ? raw[name] : "";
    if (value) search[name] = value;
  }
  return search;
}

/** The address bar's text: plain enough to be read and typed. */
export function writeSearch(search: Record<string, unknown>): string {
  const query = new URLSearchParams();
  for (const [name, value] of Object.entries(search)) if (typeof value === "string" && value) query.set(name, value);
  const text = query.toString().replaceAll("%3A", ":").replaceAll("%40", "@");
  return text ? `?${text}` : "";
}

/** The parts of a list in the address bar. */
export const parts = (text: string | undefined, by: string) => (text ? text.split(by).filter(Boolean) : []);

/** The list with a part added, or taken out where it is there. */
export function toggled(text: string | undefined, part: string, by: string): string | undefined {
  const all = parts(text, by);
  const next = all.includes(part) ? all.filter((p) => p !== part) : [...all, part];
  return next.length ? next.join(by) : undefined;
}
