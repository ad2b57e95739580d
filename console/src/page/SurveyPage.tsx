import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { clock, count, sure, windowWords } from "../model/format";
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
              {i.confidence ? `${sure(i.confidence)} sure` : "not known"}
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
          <Strip key={sys.ref} sys={sys} n={s.n} width={width} from={from} to={to} slim={many && sys.hurt === 0} />
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

/** The bore log of a system. A slim one, of those that hurt nobody among many, has its layers on one line. */
function Strip({
  sys,
  n,
  width,
  from,
  to,
  slim,
}: {
  sys: System;
  n: number;
  width: number;
  from: number;
  to: number;
  slim: boolean;
}) {
  const rows = slim ? [{ label: "", layer: "", marks: sys.rows.flatMap((r) => r.marks), silent: false }] : logRows(sys);
  const height = rows.length * rowHeight + (slim ? 0 : 8);
  // Beyond what is known of it there is neither load nor ink, and the line is broken.
  const seen = sys.quiet ? (((sys.seen ? Date.parse(sys.seen) : from) - from) / (to - from)) * width : width;
  return (
    <li className={`flex border-b border-line ${slim ? "py-[3px]" : "py-1.5"}`} data-testid="strip">
      <div className={`shrink-0 pr-3 ${slim ? "flex items-baseline gap-2" : ""}`} style={{ width: name }}>
        <PageLink
          plain
          page="section"
          of={sys.ref}
          className={`${slim ? "shrink-0 text-[12.5px] font-medium" : "text-[13.5px] font-semibold"} hover:underline`}
        >
          {sys.name}
        </PageLink>
        <div className="truncate text-[11.5px] text-quiet" title={sys.about}>
          {sys.about}
        </div>
      </div>
      <div className="shrink-0 pr-2 text-right text-[11.5px] text-quiet" style={{ width: label }}>
        {!slim &&
          rows.map((r) => (
            <div
              key={r.label}
              style={{ height: rowHeight }}
              className="flex items-center justify-end gap-2 leading-none"
            >
              {r.label}
              <span className="h-[11px] w-[3px]" style={{ background: layerTone[r.layer] }} />
            </div>
          ))}
      </div>
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: its marks are links with names of their own, and a title would be shown over them */}
      <svg width={width} height={height} className="shrink-0 overflow-visible">
        <Load of={sys.load as (number | null)[]} width={width} height={height} />
        {rows.map((r, k) => (
          <g key={r.label} transform={`translate(0 ${k * rowHeight + rowHeight / 2})`}>
            <path d={`M0 0H${r.silent ? 0 : seen}`} stroke="var(--line)" />
            <path d={`M${r.silent ? 0 : seen} 0H${width}`} stroke="var(--quiet)" strokeDasharray="2 4" />
            {[...r.marks].reverse().map((m) => (
              <Ribbon key={`${m.ref} ${m.from} ${m.words}`} m={m} n={n} width={width} />
            ))}
          </g>
        ))}
      </svg>
      <div
        className={`min-w-0 pl-5 text-[12px] ${slim ? "flex items-baseline gap-1.5 text-[11.5px]" : ""}`}
        style={{ width: words + 28 }}
      >
        <div className={sys.past_s > 0 && !slim ? "font-semibold" : "truncate text-quiet"} title={sys.says}>
          {sys.says}
        </div>
        {!slim && <About sys={sys} />}
      </div>
    </li>
  );
}

const logRows = (sys: System) =>
  sys.rows.filter((r) => r.objects > 0).map((r) => ({ ...r, silent: r.silent === r.objects }));

/** Who was hurt, up to when anything is known, and what differs: two lines at most. */
function About({ sys }: { sys: System }) {
  const lines: React.ReactNode[] = [];
  if (sys.hurts)
    lines.push(
      sys.incident ? (
        <IncidentLink key="hurts" no={sys.incident} className="hover:underline">
          {sys.hurts}
        </IncidentLink>
      ) : (
        sys.hurts
      ),
    );
  if (sys.quiet && sys.seen) lines.push(`no readings since ${clock(Date.parse(sys.seen))}`);
  if (sys.differs[0])
    lines.push(
      <span key="differs" title={sys.differs.join("; ")}>
        {sys.differs[0]}
      </span>,
    );
  return lines.slice(0, 2).map((line, k) => (
    // biome-ignore lint/suspicious/noArrayIndexKey: lines have no order of their own and do not move
    <div key={k} className="truncate text-[11.5px] text-quiet">
      {line}
    </div>
  ));
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
