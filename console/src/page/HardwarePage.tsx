import { Fragment, useState } from "react";
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
            <Parts of={p.parts ?? []} depth={0} />
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

const columns =
  "grid grid-cols-[minmax(250px,1fr)_120px_150px_90px_2fr] items-baseline gap-x-4 border-b border-line py-1.5 hover:bg-well";

/** Parts of an object: those in trouble first, many alike that are well on one line. */
function Parts({ of, depth }: { of: HardwarePart[]; depth: number }) {
  const [open, setOpen] = useState<string[]>([]);
  const trouble = of.filter((p) => bad(p) || p.failing_below > 0);
  const well = of.filter((p) => !trouble.includes(p));
  const kinds = [...new Set(well.map((p) => p.kind))];
  return (
    <>
      {trouble.map((p) => (
        <Part key={p.ref} p={p} depth={depth} />
      ))}
      {kinds.map((kind) => {
        const alike = well.filter((p) => p.kind === kind);
        const folds = alike.length > 4 && alike.every((p) => (p.parts ?? []).length === 0);
        if (!folds) return alike.map((p) => <Part key={p.ref} p={p} depth={depth} />);
        const shown = open.includes(kind);
        return (
          <Fragment key={kind}>
            <li className={columns}>
              <span className="flex items-baseline gap-1.5" style={{ paddingLeft: depth * 20 }}>
                <button
                  type="button"
                  aria-expanded={shown}
                  onClick={() => setOpen(shown ? open.filter((k) => k !== kind) : [...open, kind])}
                  className="cursor-pointer text-quiet hover:text-ink"
                >
                  <span aria-hidden="true" className="mr-1.5 inline-block w-3">
                    {shown ? "▾" : "▸"}
                  </span>
                  {count(alike.length, alike[0]?.label ?? kind, `${alike[0]?.label ?? kind}s`)}
                </button>
              </span>
              <span />
              <span className="text-quiet">{[...new Set(alike.map((p) => p.about))].join(", ")}</span>
              <span className="text-quiet">{[...new Set(alike.map((p) => p.state))].join(", ")}</span>
              <span className="text-quiet">none failing</span>
            </li>
            {shown && alike.map((p) => <Part key={p.ref} p={p} depth={depth + 1} />)}
          </Fragment>
        );
      })}
    </>
  );
}

function Part({ p, depth }: { p: HardwarePart; depth: number }) {
  const parts = p.parts ?? [];
  const [open, setOpen] = useState(p.failing_below > 0 || parts.length <= 6);
  const fine = !p.state || p.state === "ok" || p.state === "online";
  return (
    <>
      <li className={columns}>
        <span className="flex min-w-0 items-baseline gap-1.5" style={{ paddingLeft: depth * 20 }}>
          {parts.length > 0 ? (
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
          {parts.length > 0 && !open && (
            <span className="text-[11px] text-quiet">{count(parts.length, "part", "parts")}</span>
          )}
        </span>
        <span className="text-quiet">{p.label}</span>
        <span className="text-quiet">{p.about}</span>
        <span className={fine ? "text-quiet" : ""}>{p.state}</span>
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
      </li>
      {open && parts.length > 0 && <Parts of={parts} depth={depth + 1} />}
    </>
  );
}
