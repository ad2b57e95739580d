import type { Mark } from "../model/section";

const words = { strained: "strained", failing: "failing", silent: "silent" };

/** A condition as a shape of its own: a triangle, a diamond, a dashed ring. */
export function Glyph({ mark, size = 10 }: { mark: Mark; size?: number }) {
  if (!mark) return null;
  return (
    <svg width={size} height={size} viewBox="0 0 10 10" role="img" aria-label={words[mark]} className="shrink-0">
      {mark === "failing" && <path d="M5 0 10 5 5 10 0 5Z" fill="var(--magenta)" />}
      {mark === "strained" && <path d="M5 .6 10 9.4H0Z" fill="var(--ochre)" />}
      {mark === "silent" && (
        <circle cx="5" cy="5" r="4" fill="none" stroke="var(--quiet)" strokeWidth="1.4" strokeDasharray="2 1.6" />
      )}
    </svg>
  );
}

/** The mark of the product: a forked rod. */
export function Rod() {
  return (
    <svg
      width="20"
      height="20"
      viewBox="0 0 20 20"
      aria-hidden="true"
      fill="none"
      stroke="currentColor"
      strokeWidth="1.8"
      strokeLinecap="round"
    >
      <path d="M4 2c.8 3.6 3 6.6 6 8.2M16 2c-.8 3.6-3 6.6-6 8.2M10 10.2V18" />
    </svg>
  );
}
