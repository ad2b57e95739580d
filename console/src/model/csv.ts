/** Rows as CSV (RFC 4180); what is not there is an empty field. */
export function csv(rows: (string | number | null)[][]): string {
  const field = (v: string | number | null) => {
    if (v === null) return "";
    const text = String(v);
    // A leading = + - @ would be run as a formula by spreadsheets; numbers are no text.
    const safe = typeof v === "string" && /^[=+\-@]/.test(text) ? `'${text}` : text;
    return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
  };
  return `${rows.map((r) => r.map(field).join(",")).join("\r\n")}\r\n`;
}
