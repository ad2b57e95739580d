/** What the address bar holds: the object, the window, the direction of I/O, and the source that is unfolded. */
export interface Search {
  of?: string;
  from?: string;
  to?: string;
  dir?: "read" | "write";
  /** A source's name, or "+" for one that is being added. */
  source?: string;
}

const text = (v: unknown) => (typeof v === "string" && v.length > 0 && v.length < 700 ? v : undefined);

export function readSearch(raw: Record<string, unknown>): Search {
  const dir = raw.dir === "read" || raw.dir === "write" ? raw.dir : undefined;
  return { of: text(raw.of), from: text(raw.from), to: text(raw.to), dir, source: text(raw.source) };
}

/** The address bar's text: plain enough to be read and typed. */
export function writeSearch(search: Record<string, unknown>): string {
  const query = new URLSearchParams();
  for (const [name, value] of Object.entries(search)) if (typeof value === "string" && value) query.set(name, value);
  const text = query.toString().replaceAll("%3A", ":").replaceAll("%40", "@");
  return text ? `?${text}` : "";
}
