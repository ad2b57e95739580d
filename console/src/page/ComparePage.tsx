import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { ToggleGroup } from "radix-ui";
import { useState } from "react";
import { type Beside, bars, besides, both, figureWords, furthest, otherStart } from "../model/compare";
import { micros, signed, windowWords } from "../model/format";
import { layerTone, within } from "../model/layers";
import { metricWords } from "../model/readings";
import { ask } from "../model/service";
import type { ComparedSide, Contrast, Direction, SideBySide } from "../model/types";
import { Answer, FindKey } from "../part/Answer";
import { ExportMenu } from "../part/ExportMenu";
import { Heading } from "../part/Heading";
import { Statement } from "../part/Statement";
import { useAddress, useWindow } from "../ui/address";
import { PageLink } from "../ui/Button";
import { kindWords } from "./SectionPage";

/** Two windows of an object, or two objects over one window, side by side; what differs most first. */
export default function ComparePage() {
  const { search, from, to } = useWindow();
  const beside = besideOf(search.beside, search.with);
  const start = otherStart(beside, from, to);
  const params = {
    of: search.of,
    from: new Date(from).toISOString(),
    to: new Date(to).toISOString(),
    with: search.with,
    ...(start !== undefined && {
      with_from: new Date(start).toISOString(),
      with_to: new Date(start + to - from).toISOString(),
    }),
  };
  const query = useQuery({
    queryKey: ["compare", params],
    queryFn: ({ signal }) => ask<SideBySide>("/compare", params, { signal }),
    enabled: !!search.of,
    placeholderData: keepPreviousData,
  });
  const words = (
    <>
      Press <FindKey /> and choose what to compare: with itself at another time, or with another of its kind.
    </>
  );
  return (
    <Answer of={search.of} query={query} empty={{ title: "Compare what?", words }}>
      {(x) => <View x={x} beside={beside} failed={query.error} />}
    </Answer>
  );
}

function besideOf(text: string | undefined, other: string | undefined): Beside {
  if (text === "day" || text === "week" || text === "before" || text === "same") return text;
  return other ? "same" : "day";
}

function View({ x, beside, failed }: { x: SideBySide; beside: Beside; failed: unknown }) {
  const file = () => [
    ["object", "kind", "metric", "unit", "first", "second", "apart", "in words"],
    ...x.differences.map((d) => [d.name, d.kind, d.metric, d.unit, d.first, d.second, d.apart, d.words]),
  ];
  return (
    <div className="pb-12">
      <Heading
        title={x.first.name}
        about={`${kindWords(x.first.kind)} · compared`}
        statement={<Statement phrases={x.statement} />}
      >
        <ExportMenu name="compare" rows={file} />
        <PageLink page="strata">Strata</PageLink>
      </Heading>
      <Chooser x={x} beside={beside} />
      {failed ? <p className="px-6 pt-2 text-[12px] text-magenta">{(failed as Error).message}</p> : null}
      <div className="grid grid-cols-2 gap-x-10 px-6 pt-4 max-[900px]:grid-cols-1">
        <Times name="read" a={x.first.read} b={x.second.read} />
        <Times name="write" a={x.first.write} b={x.second.write} />
      </div>
      <Differences of={x.differences} />
    </div>
  );
}

/** Which is first and which second, and what the second may be. */
function Chooser({ x, beside }: { x: SideBySide; beside: Beside }) {
  const { change } = useAddress();
  const [other, setOther] = useState(x.second.ref === x.first.ref ? "" : x.second.name);
  return (
    <div className="grid grid-cols-[auto_minmax(0,1fr)] items-center gap-x-4 gap-y-2 px-6 pt-3 text-[12.5px]">
      <Numeral n={1} />
      <Side s={x.first} />
      <Numeral n={2} />
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1.5">
        <Side s={x.second} />
        <ToggleGroup.Root
          type="single"
          aria-label="Which other window"
          value={beside}
          onValueChange={(v) => v && change({ beside: v })}
          className="flex rounded-md border border-line bg-card"
        >
          {[
            ...besides,
            ...(x.first.ref !== x.second.ref ? [{ id: "same" as Beside, words: "at the same time" }] : []),
          ].map((b) => (
            <ToggleGroup.Item
              key={b.id}
              value={b.id}
              className="h-[25px] cursor-pointer px-2.5 text-[11.5px] text-quiet data-[state=on]:bg-well data-[state=on]:font-medium data-[state=on]:text-ink"
            >
              {b.words}
            </ToggleGroup.Item>
          ))}
        </ToggleGroup.Root>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            change({ with: other.trim() || undefined, beside: other.trim() ? "same" : undefined });
          }}
        >
          <input
            aria-label="Compare with another object"
            value={other}
            onChange={(e) => setOther(e.target.value)}
            placeholder={`or another ${kindWords(x.first.kind)}: its name, then Enter`}
            spellCheck={false}
            className="h-[27px] w-[310px] rounded-md border border-line bg-card px-2.5 text-[12px] placeholder:text-quiet hover:border-quiet"
          />
        </form>
      </div>
    </div>
  );
}

function Numeral({ n }: { n: 1 | 2 }) {
  return (
    <span
      className={`inline-flex h-[19px] w-[19px] items-center justify-center rounded-full text-[11px] font-semibold ${n === 1 ? "bg-ink text-paper" : "border border-ink"}`}
    >
      {n}
    </span>
  );
}

function Side({ s }: { s: ComparedSide }) {
  return (
    <span>
      <PageLink plain page="section" of={s.ref} className="font-medium hover:underline">
        {s.name}
      </PageLink>
      <span className="ml-2 text-quiet">{windowWords(Date.parse(s.from), Date.parse(s.to))}</span>
    </span>
  );
}

/** The mean time of an I/O on both sides, layer by layer, on one scale. */
function Times({ name, a, b }: { name: string; a: Direction; b: Direction }) {
  const most = Math.max(a.mean_us ?? 0, b.mean_us ?? 0);
  const gap = furthest(a, b);
  return (
    <figure data-testid={`times-${name}`}>
      <figcaption className="border-b border-line pb-1.5 text-[12px]">
        <span className="font-semibold">A {name}</span>
        <span className="ml-3 text-quiet">
          {most === 0
            ? "none on either side"
            : !both(a, b)
              ? `no ${name}s were timed on side ${a.mean_us === null ? 1 : 2}`
              : gap
                ? `${signed(gap.us, micros)} ${within(gap.layer)}, more than in any other layer`
                : "takes the same in every layer"}
        </span>
      </figcaption>
      {most > 0 &&
        ([a, b] as const).map((d, k) => (
          <div key={k === 0 ? "first" : "second"} className="mt-2 grid grid-cols-[24px_1fr_72px] items-center">
            <Numeral n={k === 0 ? 1 : 2} />
            <span className="flex h-[18px]" role="img" aria-label={`${name}s of ${k + 1}: ${micros(d.mean_us)}`}>
              {bars(d).map((s) => (
                <span
                  key={s.layer}
                  title={`${s.layer} ${micros(s.us)}`}
                  style={{ width: `${(s.us / most) * 100}%`, background: layerTone[s.layer] }}
                />
              ))}
            </span>
            <span className="text-right text-[12.5px] font-semibold tabular-nums">{micros(d.mean_us)}</span>
          </div>
        ))}
      {most > 0 && <Layers a={a} b={b} />}
    </figure>
  );
}

function Layers({ a, b }: { a: Direction; b: Direction }) {
  const other = new Map(b.bands.map((x) => [x.layer, x]));
  const rows = a.bands.filter((x) => x.mean_us || other.get(x.layer)?.mean_us);
  return (
    <table className="mt-2.5 w-full text-[12px]">
      <thead>
        <tr className="border-b border-line text-quiet">
          <th className="py-1 text-left font-normal">layer</th>
          {["1", "2", "more in 2"].map((h) => (
            <th key={h} className="w-20 text-right font-normal">
              {h}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map((x) => {
          const y = other.get(x.layer);
          const more = (y?.mean_us ?? 0) - (x.mean_us ?? 0);
          return (
            <tr key={x.layer} className="border-b border-line">
              <th scope="row" className="py-[5px] text-left font-medium">
                <span className="inline-flex items-center gap-2">
                  <span className="h-2.5 w-2.5 rounded-[2px]" style={{ background: layerTone[x.layer] }} />
                  {x.layer}
                </span>
              </th>
              <td className="text-right tabular-nums">{micros(x.mean_us)}</td>
              <td className="text-right tabular-nums">{micros(y?.mean_us ?? null)}</td>
              <td className="text-right tabular-nums text-quiet">{both(a, b) ? signed(more, micros) : "–"}</td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

const shown = 30;
const contrastColumns = "grid grid-cols-[minmax(0,1.2fr)_150px_84px_84px_minmax(0,1fr)_116px] items-center gap-x-4";

function Differences({ of }: { of: Contrast[] }) {
  const [all, setAll] = useState(false);
  const some = of.filter((d) => (d.weight ?? 0) >= 0.05);
  const most = some[0]?.weight ?? 1;
  return (
    <section className="px-6 pt-7" data-testid="differences">
      <h2 className="border-b border-line pb-1.5 text-[12px] font-semibold">
        What differs, most first
        <span className="ml-3 font-normal text-quiet">
          {some.length === 0
            ? "nothing beyond chance"
            : `${some.length} of ${of.length} figures that both have, of the object and of all it depends on`}
        </span>
      </h2>
      {some.length > 0 && (
        <div className={`${contrastColumns} border-b border-line py-1 text-[11.5px] text-quiet`} aria-hidden="true">
          <span>object</span>
          <span>figure</span>
          <span className="text-right">1</span>
          <span className="text-right">2</span>
          <span>2 against 1</span>
          <span>how much it matters</span>
        </div>
      )}
      <ul className="text-[12.5px]">
        {some.slice(0, all ? undefined : shown).map((d) => (
          <li key={`${d.ref} ${d.metric}`} className={`${contrastColumns} border-b border-line py-[5px] hover:bg-well`}>
            <span className="truncate">
              <PageLink plain page="section" of={d.ref} className="font-medium hover:underline">
                {d.name}
              </PageLink>
              <span className="ml-2 text-[11px] text-quiet">{kindWords(d.kind)}</span>
            </span>
            <span className="text-quiet">{metricWords(d.metric)}</span>
            <span className="text-right tabular-nums">{figureWords(d.first, d.unit)}</span>
            <span className="text-right tabular-nums">{figureWords(d.second, d.unit)}</span>
            <span>{d.words}</span>
            <span
              className="h-[5px] bg-quiet/60"
              style={{ width: `${Math.max(2, ((d.weight ?? 0) / (most || 1)) * 110)}px` }}
              title="how much longer I/O waits, or how much more is done, as far as readings do not scatter by it"
            />
          </li>
        ))}
      </ul>
      {some.length > shown && !all && (
        <button
          type="button"
          onClick={() => setAll(true)}
          className="mt-2 cursor-pointer text-[12px] text-water underline decoration-line underline-offset-4"
        >
          {some.length - shown} more
        </button>
      )}
    </section>
  );
}
