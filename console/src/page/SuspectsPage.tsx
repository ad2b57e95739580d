import { useState } from "react";
import { byteRate, bytes, clock, count, micros, percent, rate, signed, sure } from "../model/format";
import { addable, type MiniScale, miniScale } from "../model/mini";
import { areaPath, linePath } from "../model/stack";
import type { Row, SectionView, Suspects, Tenant, Trace } from "../model/types";
import { Answer } from "../part/Answer";
import { EstateSuspects } from "../part/EstateSuspects";
import { ExportMenu } from "../part/ExportMenu";
import { Heading } from "../part/Heading";
import { Statement } from "../part/Statement";
import { useAddress } from "../ui/address";
import { PageLink } from "../ui/Button";
import { Glyph } from "../ui/Glyph";
import { Hint } from "../ui/Hint";
import { useAsk } from "../ui/useAsk";
import { kindWords } from "./SectionPage";

const first = 8;

/** All tenants of a shared component side by side, before and after it became slow. */
export default function SuspectsPage() {
  const { search } = useAddress();
  const query = useAsk<Suspects>("/suspects", search);
  if (!search.of) return <EstateSuspects />;
  return (
    <Answer of={search.of} query={query} empty={{ title: "Tenants of what?", words: null }} rows={7}>
      {(s) => <View s={s} key={s.of} />}
    </Answer>
  );
}

function View({ s }: { s: Suspects }) {
  const [all, setAll] = useState(false);
  if (s.kind === "vm" || s.kind === "vdisk") return <Shared />;
  const accused = s.tenants.filter((t) => t.role === "suspect").length;
  const shown = all ? s.tenants : s.tenants.slice(0, Math.max(first, accused + 3));
  const rest = s.tenants.slice(shown.length);
  return (
    <>
      <Heading
        title={`Suspects for ${s.name}`}
        about={`${kindWords(s.kind)}${s.onset ? ` · before and after ${clock(Date.parse(s.onset))}` : ""}`}
        statement={<Statement phrases={s.statement} />}
      >
        <PageLink page="section">Section</PageLink>
        <PageLink page="strata">Strata</PageLink>
        <ExportMenu name={`suspects-${s.name}`} rows={() => rows(s)} />
      </Heading>
      {s.tenants.length > 0 && (
        <div data-testid="suspects" className="px-6 pb-10 pt-3">
          <Head s={s} />
          <TraceRow
            s={s}
            trace={s.component}
            name={s.name}
            about={`${percentBusy(s)}${count(s.tenants.length, "tenant", "tenants")}`}
            whole
          />
          {shown.map((t) => (
            <TenantRow key={t.ref} s={s} t={t} />
          ))}
          {rest.length > 0 && (
            <button
              type="button"
              onClick={() => setAll(true)}
              className="mt-3 cursor-pointer text-[12px] text-water underline underline-offset-4"
            >
              {count(rest.length, "more tenant", "more tenants")}
              {restWords(rest)}
            </button>
          )}
          <Grounds s={s} />
        </div>
      )}
    </>
  );
}

const percentBusy = (s: Suspects) =>
  s.component.in_flight_pair.during !== null
    ? `${rate(Math.round(s.component.in_flight_pair.during))} in flight · `
    : "";

function restWords(rest: Tenant[]): string {
  const shares = rest.map((t) => t.share).filter((v): v is number => v !== null);
  if (shares.length === 0) return "";
  return `, together ${percent(shares.reduce((a, b) => a + b, 0))} of the added demand, none above ${percent(Math.max(...shares))}`;
}

const columns = "grid grid-cols-[minmax(150px,232px)_1fr_1fr_1fr_76px] gap-x-6 items-end";

function Head({ s }: { s: Suspects }) {
  return (
    <div className={`${columns} border-b border-line pb-1.5 text-[11px] text-quiet`}>
      <span />
      <Hint text="Bytes read and written per second, at the tenant's own virtual disks.">
        <span>data rate</span>
      </Hint>
      <Hint text="Mean number of I/Os sent and not yet answered: rate × time (Little's law).">
        <span>in flight</span>
      </Hint>
      <Hint
        text={`Mean time of a ${s.direction}, weighted by ${s.direction}s. The component's own figure is taken ${s.measured}.`}
      >
        <span>time per {s.direction}</span>
      </Hint>
      <Hint
        text={`Part of the demand that was added when it became slow. Demand is counted in cost units: ${s.cost_unit}.`}
      >
        <span className="text-right">of the added demand</span>
      </Hint>
    </div>
  );
}

function TenantRow({ s, t }: { s: Suspects; t: Tenant }) {
  const suspect = t.role === "suspect";
  const words = [t.tier ? `tier ${t.tier}` : "", t.why].filter(Boolean).join(" · ");
  return <TraceRow s={s} trace={t} name={t.name} ref_={t.ref} about={words} suspect={suspect} share={t.share} />;
}

interface RowProps {
  s: Suspects;
  trace: Trace;
  name: string;
  about: string;
  ref_?: string;
  whole?: boolean;
  suspect?: boolean;
  share?: number | null;
}

function TraceRow({ s, trace, name, about, ref_, whole, suspect, share }: RowProps) {
  const tone = suspect ? "var(--magenta)" : whole ? "var(--ink)" : "var(--water)";
  const cells: {
    row: Row;
    write: (v: number | null | undefined) => string;
    pair: { before: number | null; during: number | null };
    label: string;
  }[] = [
    { row: trace.bytes_s, write: byteRate, pair: trace.bytes_s_pair, label: "data rate" },
    { row: trace.in_flight, write: rate, pair: trace.in_flight_pair, label: "in flight" },
    { row: trace.time_us, write: micros, pair: trace.time_us_pair, label: `time per ${s.direction}` },
  ];
  return (
    <div className={`${columns} border-b border-line pb-2 pt-1`}>
      <div className="min-w-0 self-center">
        <div className="flex items-center gap-1.5">
          {suspect && <Glyph mark="failing" />}
          {ref_ ? (
            <PageLink plain page="section" of={ref_} className="truncate font-semibold hover:underline">
              {name}
            </PageLink>
          ) : (
            <span className="truncate font-semibold">{name}</span>
          )}
        </div>
        <Hint text={sizeWords(trace)}>
          <div className="text-[11px] leading-snug text-quiet">{about}</div>
        </Hint>
      </div>
      {cells.map((c) => (
        <Mini
          key={c.label}
          s={s}
          row={c.row}
          tone={tone}
          fill={whole}
          write={c.write}
          pair={c.pair}
          label={`${name}, ${c.label}`}
        />
      ))}
      <div className={`self-center text-right ${suspect ? "text-[19px] font-semibold text-magenta" : "text-quiet"}`}>
        {whole ? "" : share !== null && share !== undefined && share >= 0.005 ? percent(share) : "–"}
      </div>
    </div>
  );
}

function sizeWords(t: Trace): string {
  const p = t.size_pair;
  if (p.before === null || p.during === null) return "Each I/O's mean size is not known.";
  return `${bytes(p.before)} per I/O before, ${bytes(p.during)} during; ${rate(t.iops_pair.before)} IOPS before, ${rate(t.iops_pair.during)} during.`;
}

const box = { width: 240, height: 36 };

/** A small chart of one figure, with what it changed by. */
function Mini({
  s,
  row,
  tone,
  fill,
  write,
  pair,
  label,
}: {
  s: Suspects;
  row: Row;
  tone: string;
  fill?: boolean;
  write: (v: number | null | undefined) => string;
  pair: { before: number | null; during: number | null };
  label: string;
}) {
  const scale: MiniScale = miniScale(row);
  const plot = { ...box, top: scale.top, n: s.n };
  const from = Date.parse(s.from);
  const onset = s.onset ? ((Date.parse(s.onset) - from) / (s.n * s.step_s * 1000)) * box.width : undefined;
  const changed = addable(pair);
  const words = changed
    ? `${write(pair.before)} before, ${write(pair.during)} during`
    : scale.known
      ? `mean ${write(scale.mean)}, up to ${write(scale.greatest)}`
      : "no readings";
  return (
    <Hint text={`${words}. The curve reaches up to ${write(scale.greatest)}.`}>
      <div className="relative pt-[15px]">
        <div className="absolute right-0 top-0 text-[11px] leading-[14px] text-quiet">
          {changed && !fill
            ? signed((pair.during ?? 0) - (pair.before ?? 0), write)
            : fill || !scale.known
              ? ""
              : write(scale.mean)}
        </div>
        <svg
          role="img"
          aria-label={`${label}: ${words}`}
          viewBox={`0 0 ${box.width} ${box.height}`}
          preserveAspectRatio="none"
          className="block h-9 w-full"
        >
          {fill && <path d={areaPath(row, plot)} fill="var(--ink)" opacity={0.14} />}
          <path d={linePath(row, plot)} fill="none" stroke={tone} strokeWidth={1.3} vectorEffect="non-scaling-stroke" />
          {onset !== undefined && (
            <line
              x1={onset}
              x2={onset}
              y1={0}
              y2={box.height}
              stroke="var(--magenta)"
              strokeWidth={1.2}
              vectorEffect="non-scaling-stroke"
            />
          )}
        </svg>
        {!scale.known && <span className="absolute left-1 top-1 text-[11px] text-quiet">no readings</span>}
      </div>
    </Hint>
  );
}

function Grounds({ s }: { s: Suspects }) {
  return (
    <div className="mt-5 grid max-w-[900px] grid-cols-2 gap-x-10 text-[12px] text-quiet max-[900px]:grid-cols-1">
      {s.grounds.length > 0 && (
        <div>
          <h2 className="font-semibold text-ink">Why {sure(s.confidence)} sure</h2>
          <ul className="mt-1 list-disc space-y-0.5 pl-4">
            {s.grounds.map((g) => (
              <li key={g}>{g}</li>
            ))}
          </ul>
        </div>
      )}
      <div>
        <h2 className="font-semibold text-ink">How it is counted</h2>
        <p className="mt-1">
          A cost unit is {s.cost_unit}. {percent(s.coverage)} of the tenants' readings are there. The component's time
          is taken {s.measured}.
        </p>
        {s.notes.map((n) => (
          <p key={n} className="mt-1">
            {n}
          </p>
        ))}
      </div>
    </div>
  );
}

/** For a VM: the shared components on its routes, the one where its delay arises first. */
function Shared() {
  const { search } = useAddress();
  const query = useAsk<SectionView>("/section", search);
  return (
    <Answer of={search.of} query={query} empty={{ title: "", words: "" }}>
      {(data) => <Components data={data} />}
    </Answer>
  );
}

function Components({ data }: { data: SectionView }) {
  const cause = data.strata.change?.component;
  const kinds = ["pool", "controller", "volume", "datastore", "target_port", "switch_port"];
  const list = data.section.nodes
    .filter((n) => kinds.includes(n.kind))
    .sort((a, b) => (a.ref === cause ? -1 : b.ref === cause ? 1 : kinds.indexOf(a.kind) - kinds.indexOf(b.kind)));
  return (
    <>
      <Heading
        title={`Which component of ${data.strata.name}?`}
        about="suspects are tenants of something shared"
        statement={<Statement phrases={data.strata.statement} />}
      />
      <ul className="max-w-[640px] px-6 pt-5">
        {list.map((n) => (
          <li key={n.ref} className="border-b border-line">
            <PageLink plain page="suspects" of={n.ref} className="flex items-baseline gap-3 py-2 hover:bg-well">
              <span className="font-semibold">
                {[n.kind === "volume" ? "" : n.owner, n.name].filter(Boolean).join(" ")}
              </span>
              <span className="text-[12px] text-quiet">{kindWords(n.kind)}</span>
              {n.ref === cause && (
                <span className="ml-auto text-[12px] font-medium text-magenta">the delay arises here</span>
              )}
            </PageLink>
          </li>
        ))}
      </ul>
    </>
  );
}

function rows(s: Suspects): (string | number | null)[][] {
  const head = [
    "tenant",
    "tier",
    "role",
    "share of added demand",
    "bytes/s before",
    "bytes/s during",
    "IOPS before",
    "IOPS during",
    "in flight before",
    "in flight during",
    "µs before",
    "µs during",
    "why",
  ];
  return [
    head,
    ...s.tenants.map((t) => [
      t.name,
      t.tier ?? "",
      t.role,
      t.share,
      t.bytes_s_pair.before,
      t.bytes_s_pair.during,
      t.iops_pair.before,
      t.iops_pair.during,
      t.in_flight_pair.before,
      t.in_flight_pair.during,
      t.time_us_pair.before,
      t.time_us_pair.during,
      t.why,
    ]),
  ];
}
