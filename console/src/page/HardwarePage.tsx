import { useState } from "react";
import { count } from "../model/format";
import type { HardwarePart } from "../model/types";
import { Answer, FindKey } from "../part/Answer";
import { Heading } from "../part/Heading";
import { useAddress } from "../ui/address";
import { PageLink } from "../ui/Button";
import { Glyph } from "../ui/Glyph";
import { useAsk } from "../ui/useAsk";

/** What an array, host or switch is built of, with the condition of every part. */
export default function HardwarePage() {
  const { search } = useAddress();
  const query = useAsk<HardwarePart>("/hardware", search);
  const words = (
    <>
      Press <FindKey /> and choose an array, a host or a switch: its parts are listed with the condition of each.
    </>
  );
  return (
    <Answer of={search.of} query={query} empty={{ title: "Whose parts?", words }}>
      {(p) => (
        <div className="pb-10">
          <Heading
            title={p.name}
            about={[p.label, p.about].filter(Boolean).join(" · ")}
            statement={<p className="text-[14px]">{sentence(p)}</p>}
          >
            <PageLink page="section">Section</PageLink>
            <PageLink page="reach">Reach</PageLink>
          </Heading>
          <ul className="px-6 pt-4 text-[12.5px]" data-testid="parts">
            {(p.parts ?? []).map((x) => (
              <Part key={x.ref} p={x} />
            ))}
          </ul>
        </div>
      )}
    </Answer>
  );
}

const bad = (p: HardwarePart) => p.condition === "failing" || p.condition === "strained";

function troubled(p: HardwarePart): HardwarePart[] {
  return [...(bad(p) ? [p] : []), ...(p.parts ?? []).flatMap(troubled)];
}

function sentence(p: HardwarePart): string {
  const all = (x: HardwarePart): number => (x.parts ?? []).reduce((n, y) => n + 1 + all(y), 0);
  const n = all(p);
  if (n === 0) return "Its source lists no parts of it.";
  const list = troubled({ ...p, condition: "steady" });
  if (list.length === 0) return `None of its ${count(n, "part", "parts")} is failing or past its limits.`;
  const first = list[0];
  return `Of its ${count(n, "part", "parts")}, ${count(list.length, "is", "are")} failing or strained: ${first?.name}, ${first?.why}.`;
}

const mark = (p: HardwarePart) =>
  p.condition === "failing" || p.condition === "strained" || p.condition === "silent" ? p.condition : "";

function Part({ p }: { p: HardwarePart }) {
  const many = (p.parts ?? []).length > 0;
  const [open, setOpen] = useState(p.failing_below > 0 || (p.parts ?? []).length <= 6);
  return (
    <li>
      <div className="grid grid-cols-[minmax(240px,1fr)_120px_150px_90px_2fr] items-baseline gap-x-4 border-b border-line py-1.5 hover:bg-well">
        <span className="flex min-w-0 items-baseline gap-1.5">
          {many ? (
            <button
              type="button"
              aria-expanded={open}
              aria-label={`Parts of ${p.name}`}
              onClick={() => setOpen(!open)}
              className="w-3 cursor-pointer text-quiet"
            >
              {open ? "▾" : "▸"}
            </button>
          ) : (
            <span className="w-3" />
          )}
          <PageLink plain page="section" of={p.ref} className="truncate font-medium hover:underline">
            {p.name}
          </PageLink>
          {many && !open && (
            <span className="text-[11px] text-quiet">{count((p.parts ?? []).length, "part", "parts")}</span>
          )}
        </span>
        <span className="text-quiet">{p.label}</span>
        <span className="text-quiet">{p.about}</span>
        <span className={p.state && p.state !== "ok" && p.state !== "online" ? "" : "text-quiet"}>{p.state}</span>
        <span className="flex items-center gap-1.5">
          <Glyph mark={mark(p)} />
          {bad(p) ? (
            `${p.condition}: ${p.why}`
          ) : p.condition === "silent" ? (
            "silent"
          ) : p.failing_below > 0 ? (
            <span className="text-quiet">see below</span>
          ) : null}
        </span>
      </div>
      {open && many && (
        <ul className="pl-5">
          {(p.parts ?? []).map((x) => (
            <Part key={x.ref} p={x} />
          ))}
        </ul>
      )}
    </li>
  );
}
