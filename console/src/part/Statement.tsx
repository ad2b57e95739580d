import { clock } from "../model/format";
import type { Phrase } from "../model/types";
import { IncidentLink, PageLink } from "../ui/Button";

const tones: Record<string, string> = {
  plain: "",
  strong: "font-semibold",
  bad: "font-semibold text-magenta",
  good: "font-semibold",
};

/** The sentence one would say on the phone; each part leads to its evidence. */
export function Statement({ phrases }: { phrases: Phrase[] }) {
  return (
    <p data-testid="statement" className="max-w-[1080px] text-[14px] leading-relaxed">
      {phrases.map((p, i) => {
        const key = `${i} ${p.text}`;
        const words = p.time ? `${p.text}${clock(Date.parse(p.time))}` : p.text;
        if (!p.ref || !p.page)
          return (
            <span key={key} className={tones[p.tone]}>
              {words}
            </span>
          );
        if (p.page === "incident")
          return (
            <IncidentLink
              key={key}
              no={p.ref}
              className={`${tones[p.tone]} decoration-line underline underline-offset-4 hover:decoration-current`}
            >
              {words}
            </IncidentLink>
          );
        return (
          <PageLink
            key={key}
            plain
            page={p.page}
            of={p.ref}
            className={`${tones[p.tone]} decoration-line underline underline-offset-4 hover:decoration-current`}
          >
            {words}
          </PageLink>
        );
      })}
    </p>
  );
}
