import type { ReactNode } from "react";
import { count } from "../model/format";
import type { Joined, Probed, ProbeStep } from "../model/types";
import { kindWords } from "../page/SectionPage";

const tone: Record<string, string> = {
  passed: "bg-ink",
  noted: "bg-ochre rotate-45",
  failed: "bg-magenta rotate-45",
};

/** The steps of a probe as a plumb line: what was tried, how deep it went, and what stopped it. */
export function ProbeLine({ probed, children }: { probed: Probed; children?: ReactNode }) {
  return (
    <div>
      <ol data-testid="probe">
        {probed.steps.map((s, i) => (
          <Step key={s.name} step={s} last={i === probed.steps.length - 1} />
        ))}
      </ol>
      {children}
      {probed.counts.length > 0 && (
        <p className="mt-3 text-quiet">
          Recognised: {probed.counts.map((c) => count(c.count, kindWords(c.kind), `${kindWords(c.kind)}s`)).join(", ")}.
        </p>
      )}
      {probed.joins.length > 0 && <Joins joins={probed.joins} />}
    </div>
  );
}

function Step({ step, last }: { step: ProbeStep; last: boolean }) {
  const skipped = step.outcome === "not needed";
  const reached = step.outcome !== "not tried" && !skipped;
  const passed = reached || skipped;
  return (
    <li className="grid grid-cols-[14px_104px_1fr_52px] gap-x-3">
      <span className="relative" aria-hidden="true">
        {!last && (
          <span
            className={`absolute left-[6px] top-3 bottom-[-12px] w-px ${passed && step.outcome !== "failed" ? "bg-ink" : "bg-line"}`}
          />
        )}
        <span
          className={`absolute left-[2.5px] top-[6px] size-2 ${tone[step.outcome] ?? "rounded-full border border-quiet bg-paper"} ${step.outcome === "passed" ? "rounded-full" : ""}`}
        />
      </span>
      <span className={`py-[1px] ${reached ? "font-medium" : "text-quiet"}`}>{step.name}</span>
      <span className="pb-2 pt-[1px]">
        <span className={step.outcome === "failed" ? "font-medium" : reached ? "" : "text-quiet"}>
          <span className="sr-only">{step.outcome}: </span>
          {skipped ? `not needed: ${step.found}` : step.found}
        </span>
        {step.try && <span className="block text-quiet">{step.try}</span>}
      </span>
      <span className="pt-[1px] text-right text-[12px] text-quiet">
        {step.took_s >= 0.0005 ? `${Math.round(step.took_s * 1000)} ms` : ""}
      </span>
    </li>
  );
}

/** What a source has in common with others, by identity. */
export function Joins({ joins }: { joins: Joined[] }) {
  return (
    <table className="mt-3 w-full max-w-[640px]">
      <thead>
        <tr className="border-b border-line text-left text-[12px] text-quiet">
          <th className="py-1 font-normal">joined by identity</th>
          <th className="font-normal">with</th>
          <th className="w-20 text-right font-normal">links</th>
        </tr>
      </thead>
      <tbody>
        {joins.map((j) => (
          <tr key={`${j.from} ${j.link} ${j.to} ${j.with}`} className="border-b border-line">
            <td className="py-1">
              {kindWords(j.from)} → {kindWords(j.to)}
            </td>
            <td>{j.with}</td>
            <td className="text-right">{j.count.toLocaleString("en-GB")}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
