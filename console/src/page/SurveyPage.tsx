import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { count, percent, windowWords } from "../model/format";
import { behind, hurtWords, marked, markOf, matches, whenWords } from "../model/incident";
import { layerTone } from "../model/layers";
import { ticks } from "../model/ruler";
import { ask } from "../model/service";
import type { IncidentInfo, Mark, Survey, System } from "../model/types";
import { moving } from "../model/window";
import { Heading } from "../part/Heading";
import { Statement } from "../part/Statement";
import { useAddress } from "../ui/address";
import { IncidentLink, PageLink } from "../ui/Button";
import { Glyph } from "../ui/Glyph";
import { Hint } from "../ui/Hint";
import { Empty, Waiting } from "../ui/States";
import { useWidth } from "../ui/useWidth";

/** The whole estate at a glance: what hurts and why, and a bore log of every system on one time ruler. */
export default function SurveyPage() {
  const { search } = useAddress();
  const { from, to } = search;
  const { data, error } = useQuery({
    queryKey: ["survey", from, to],
    queryFn: ({ signal }) => ask<Survey>("/survey", { from, to }, { signal }),
    refetchInterval: (q) => (moving(search) ? (behind(q.state.data?.until, Date.now()) ? 3_000 : 30_000) : false),
    placeholderData: keepPreviousData,
  });
  if (!data) return <Waiting error={error} />;
  if (data.systems.length === 0)
    return (
      <div className="px-6">
        <Empty title="Nothing is watched yet">
          Add a{" "}
          <PageLink plain page="sources" className="text-water underline underline-offset-4">
            source
          </PageLink>
          , or bring in a feed with <code className="text-ink">dowse import estate.ndjson</code>. Every array, cluster
          and fabric in it will have a strip here.
        </Empty>
      </div>
    );
  return <View s={data} />;
}

function View({ s }: { s: Survey }) {
  const from = Date.parse(s.from);
  const to = from + s.n * s.step_s * 1000;
  return (
    <div className="pb-10">
      <Heading
        title="Survey"
        about={`${windowWords(from, to)} · ${count(s.systems.length, "system", "systems")}`}
        statement={<Statement phrases={s.statement} />}
      >
        <PageLink page="start">Who complains?</PageLink>
      </Heading>
      <Incidents of={s.incidents} />
      <Logs s={s} from={from} to={to} />
    </div>
  );
}

function Incidents({ of }: { of: IncidentInfo[] }) {
  if (of.length === 0) return null;
  return (
    <ul className="mx-6 mt-3 border-t border-line text-[13px]" data-testid="incidents">
      {of.slice(0, 6).map((i) => (
        <li key={i.id} className="border-b border-line">
          <IncidentLink
            no={i.id}
            className="grid grid-cols-[16px_196px_1fr_auto_80px] items-center gap-x-3 py-[7px] hover:bg-well"
          >
            <span>
              <Glyph mark={markOf(i)} />
            </span>
            <span className="text-[12px] text-quiet tabular-nums">{whenWords(i, Date.now())}</span>
            <span className="min-w-0 truncate">
              <span className="font-semibold">{i.summary}</span>
            </span>
            <span className="text-[12px] text-quiet">{hurtWords(i)}</span>
            <span className="text-right text-[12px] text-quiet tabular-nums">
              {i.confidence ? `${percent(i.confidence)} sure` : "not known"}
            </span>
          </IncidentLink>
        </li>
      ))}
      {of.length > 6 && (
        <li className="py-1.5 text-[12px]">
          <PageLink plain page="incidents" className="text-quiet hover:text-ink">
            {count(of.length - 6, "more incident", "more incidents")} in this window
          </PageLink>
        </li>
      )}
    </ul>
  );
}

const few = 24; // systems that are shown without being asked for more
const name = 268; // px left of a strip's row labels
const label = 82;
const words = 190; // right of it
const rowHeight = 16;

function Logs({ s, from, to }: { s: Survey; from: number; to: number }) {
  const [box, whole] = useWidth<HTMLDivElement>();
  const width = Math.max(200, whole - name - label - words - 28);
  const marks = ticks(from, to, width, 95);
  const x = (at: number) => ((at - from) / (to - from)) * width;
  const { search, change } = useAddress();
  const [more, setMore] = useState<"few" | "inked" | "all">("few");
  const many = s.systems.length > few;
  const named = s.systems.filter((sys) => matches(sys, search.q ?? ""));
  const inked = named.filter(marked);
  const shown = !many || search.q || more === "all" ? named : more === "inked" ? inked : inked.slice(0, few);
  return (
    <div ref={box} className="mx-6 mt-7">
      <div className="flex items-baseline text-[11.5px] text-quiet">
        <span>Systems, by harm done to VMs</span>
        {many && (
          <input
            aria-label="Only systems whose name holds this"
            value={search.q ?? ""}
            onChange={(e) => change({ q: e.target.value || undefined }, true)}
            placeholder="only those whose name holds …"
            spellCheck={false}
            className="ml-4 h-[23px] w-[210px] rounded-md border border-line bg-card px-2 text-[11.5px] text-ink placeholder:text-quiet hover:border-quiet"
          />
        )}
        <span className="ml-auto">
          Ink: past a limit (<Ink level="strained" /> strained, <Ink level="failing" /> failing). Shade behind: load,
          neither good nor bad.
        </span>
      </div>
      <ol className="mt-1.5 border-t border-line" data-testid="systems">
        {shown.map((sys) => (
          <Strip key={sys.ref} sys={sys} n={s.n} width={width} />
        ))}
      </ol>
      {shown.length < named.length && (
        <p className="flex gap-5 py-2 text-[12px]" data-testid="rest">
          {more === "few" && inked.length > few && (
            <MoreButton onClick={() => setMore("inked")}>
              {count(inked.length - few, "more passed a limit", "more passed a limit")}
            </MoreButton>
          )}
          <MoreButton onClick={() => setMore("all")}>
            {count(named.length - inked.length, "system", "systems")} passed none: show them too
          </MoreButton>
        </p>
      )}
      {named.length === 0 && <p className="py-3 text-[12.5px] text-quiet">No system's name holds “{search.q}”.</p>}
      <svg width={width + 40} height={24} style={{ marginLeft: name + label - 20 }} aria-hidden="true">
        <path d={`M20 .5H${width + 20}`} stroke="var(--quiet)" />
        {marks.map((t) => (
          <g key={t.at} transform={`translate(${20 + x(t.at)} 0)`}>
            <path d={`M0 0V${t.label ? 7 : 4}`} stroke="var(--quiet)" />
            {t.label && (
              <text y="19" textAnchor="middle" className="fill-quiet text-[11px] tabular-nums">
                {t.label}
              </text>
            )}
          </g>
        ))}
      </svg>
    </div>
  );
}

function MoreButton(props: { onClick: () => void; children: React.ReactNode }) {
  return (
    <button
      type="button"
      onClick={props.onClick}
      className="cursor-pointer text-water underline decoration-line underline-offset-4 hover:decoration-current"
    >
      {props.children}
    </button>
  );
}

function Ink({ level }: { level: string }) {
  return (
    <span
      className="inline-block h-[9px] w-[5px]"
      style={{ background: level === "failing" ? "var(--magenta)" : "var(--ochre)" }}
    />
  );
}

function Strip({ sys, n, width }: { sys: System; n: number; width: number }) {
  const height = sys.rows.length * rowHeight + 8;
  const detail = sys.incident ? (
    <IncidentLink no={sys.incident} className="hover:underline">
      {sys.hurts}
    </IncidentLink>
  ) : (
    sys.hurts
  );
  return (
    <li className="flex border-b border-line py-1.5" data-testid="strip">
      <div className="shrink-0 pr-3" style={{ width: name }}>
        <PageLink plain page="section" of={sys.ref} className="text-[13.5px] font-semibold hover:underline">
          {sys.name}
        </PageLink>
        <div className="truncate text-[11.5px] text-quiet" title={sys.about}>
          {sys.about}
        </div>
      </div>
      <div className="shrink-0 pr-2 text-right text-[11.5px] text-quiet" style={{ width: label }}>
        {sys.rows.map((r) => (
          <div key={r.label} style={{ height: rowHeight }} className="flex items-center justify-end gap-2 leading-none">
            {r.label}
            <span className="h-[11px] w-[3px]" style={{ background: layerTone[r.layer] }} />
          </div>
        ))}
      </div>
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: its marks are links with names of their own, and a title would be shown over them */}
      <svg width={width} height={height} className="shrink-0 overflow-visible">
        <Load of={sys.load as (number | null)[]} width={width} height={height} />
        {sys.rows.map((r, k) => (
          <g key={r.label} transform={`translate(0 ${k * rowHeight + rowHeight / 2})`}>
            <path
              d={`M0 0H${width}`}
              stroke={r.objects > 0 && r.silent === r.objects ? "var(--quiet)" : "var(--line)"}
              strokeDasharray={r.objects > 0 && r.silent === r.objects ? "2 4" : undefined}
            />
            {[...r.marks].reverse().map((m) => (
              <Ribbon key={`${m.ref} ${m.from} ${m.words}`} m={m} n={n} width={width} />
            ))}
          </g>
        ))}
      </svg>
      <div className="min-w-0 pl-5 text-[12px]" style={{ width: words + 28 }}>
        <div className={sys.past_s > 0 ? "font-semibold" : "text-quiet"}>{sys.says}</div>
        {sys.hurts && <div className="text-[11.5px] text-quiet">{detail}</div>}
        {sys.differs.slice(0, 1).map((d) => (
          <div key={d} className="truncate text-[11.5px] text-quiet" title={sys.differs.join("; ")}>
            {d}
          </div>
        ))}
      </div>
    </li>
  );
}

/** A stretch past a limit; it leads to the incident that explains it, else to the object itself. */
function Ribbon({ m, n, width }: { m: Mark; n: number; width: number }) {
  const failing = m.level === "failing";
  const x = (m.from / n) * width;
  const w = Math.max(3, ((m.to - m.from) / n) * width);
  const h = failing ? 11 : 7;
  const shape = (
    <rect x={x} y={-h / 2} width={w} height={h} rx="1.5" fill={failing ? "var(--magenta)" : "var(--ochre)"} />
  );
  return (
    <Hint text={`${m.name}: ${m.words}`}>
      <g>
        {m.incident ? (
          <IncidentLink no={m.incident} aria-label={`${m.name}: ${m.words}`}>
            {shape}
          </IncidentLink>
        ) : (
          <PageLink
            plain
            page={m.kind === "pool" || m.kind === "controller" ? "suspects" : "section"}
            of={m.ref}
            aria-label={`${m.name}: ${m.words}`}
          >
            {shape}
          </PageLink>
        )}
      </g>
    </Hint>
  );
}

/** What the system carried, as shade. */
function Load({ of, width, height }: { of: (number | null)[]; width: number; height: number }) {
  const top = Math.max(1e-9, ...of.map((v) => v ?? 0));
  const step = width / of.length;
  let d = "";
  of.forEach((v, k) => {
    if (v === null) return;
    const h = (v / top) * (height - 6);
    d += `M${(k * step).toFixed(1)} ${height}v${(-h).toFixed(1)}h${(step + 0.4).toFixed(1)}V${height}Z`;
  });
  return <path d={d} fill="var(--well)" />;
}
