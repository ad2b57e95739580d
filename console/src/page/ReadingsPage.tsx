import { useMemo, useState } from "react";
import { figureWords } from "../model/compare";
import { metricWords, outsideWords, seenWords, topOf } from "../model/readings";
import { ticks } from "../model/ruler";
import { bandPath, linePath } from "../model/stack";
import type { Measured, MeasuredMetric } from "../model/types";
import { Answer, FindKey } from "../part/Answer";
import { ExportMenu } from "../part/ExportMenu";
import { Heading } from "../part/Heading";
import { Ruler } from "../part/StrataChart";
import { useAddress } from "../ui/address";
import { PageLink } from "../ui/Button";
import { Hint } from "../ui/Hint";
import { useAsk } from "../ui/useAsk";
import { useWidth } from "../ui/useWidth";
import { kindWords } from "./SectionPage";

/** All that is measured of an object, each figure with the band of what is usual and with its limit. */
export default function ReadingsPage() {
  const { search } = useAddress();
  const query = useAsk<Measured>("/measured", search);
  const words = (
    <>
      Press <FindKey /> and choose anything: all that is measured of it stands here, with what is usual for the hour.
    </>
  );
  return (
    <Answer of={search.of} query={query} empty={{ title: "Whose readings?", words }}>
      {(m) => <View m={m} />}
    </Answer>
  );
}

function View({ m }: { m: Measured }) {
  const owners = useMemo(() => {
    const by = new Map<string, MeasuredMetric[]>();
    for (const x of m.metrics) by.set(x.of, [...(by.get(x.of) ?? []), x]);
    return [...by.values()];
  }, [m]);
  const file = () => [
    ["time", "object", "metric", "unit", "value", "usual low", "usual median", "usual high"],
    ...m.metrics.flatMap((x) =>
      x.row.map((v, i) => [
        new Date(Date.parse(m.from) + i * m.step_s * 1000).toISOString(),
        x.name,
        x.metric,
        x.unit,
        v,
        x.usual.low[i] ?? null,
        x.usual.mid[i] ?? null,
        x.usual.high[i] ?? null,
      ]),
    ),
  ];
  return (
    <div className="pb-12">
      <Heading
        title={m.owner ? `${m.owner} ${m.name}` : m.name}
        about={`${kindWords(m.kind)} · all that is measured of it`}
        statement={
          <p className="text-[14px]">
            {m.says} <span className="text-[12.5px] text-quiet">{seenWords(m)}</span>
          </p>
        }
      >
        <ExportMenu name={`${m.name}-readings`} rows={file} />
        <PageLink page="limits">Limits</PageLink>
        <PageLink page="compare">Compare</PageLink>
        <PageLink page="section">Section</PageLink>
      </Heading>
      {owners.map((of) => (
        <section key={of[0]?.of} className="px-6 pt-4">
          {owners.length > 1 && (
            <h2 className="border-b border-line pb-1.5 text-[12px] font-semibold">{of[0]?.name}</h2>
          )}
          <div className="grid grid-cols-2 gap-x-10 max-[900px]:grid-cols-1">
            {of.map((x) => (
              <Chart key={x.metric} m={m} x={x} />
            ))}
          </div>
        </section>
      ))}
    </div>
  );
}

const height = 74;
const right = 64;

/** One figure over the window: its line, the band of what is usual, the levels of its limit. */
function Chart({ m, x }: { m: Measured; x: MeasuredMetric }) {
  const [ref, width] = useWidth<HTMLDivElement>();
  const [hover, setHover] = useState<number | null>(null);
  const plot = Math.max(100, width - right);
  const top = topOf(x);
  const shape = { width: plot, height, top, n: m.n };
  const from = Date.parse(m.from);
  const to = from + m.step_s * 1000 * m.n;
  const y = (v: number) => height - (Math.min(v, top) / top) * height;
  const at = hover === null ? null : hover;
  const value = at === null ? x.mean : (x.row[at] ?? null);
  const usual =
    at === null || x.usual.low[at] === null || x.usual.low[at] === undefined
      ? ""
      : `usual ${figureWords(x.usual.low[at] ?? null, x.unit)} to ${figureWords(x.usual.high[at] ?? null, x.unit)}`;
  // A label at the very edge would be cut off.
  const marks = ticks(from, to, plot).map((t) => (((t.at - from) / (to - from)) * plot < 16 ? { ...t, label: "" } : t));
  return (
    <figure ref={ref} className="pt-3" data-testid="measured">
      <figcaption className="flex items-baseline gap-3 overflow-hidden whitespace-nowrap text-[12px]">
        <Hint text={`${x.doc}. Every ${x.interval_s} s.`}>
          <span className="font-semibold">{metricWords(x.metric)}</span>
        </Hint>
        <span className="tabular-nums">
          {figureWords(value, x.unit)}
          <span className="text-quiet">{at === null ? " on average" : ""}</span>
        </span>
        {usual ? (
          <span className="text-quiet">{usual}</span>
        ) : x.unusual ? (
          <span className="font-medium">{outsideWords(x)}</span>
        ) : null}
      </figcaption>
      <svg
        role="img"
        aria-label={`${metricWords(x.metric)}: ${figureWords(x.mean, x.unit)} on average${x.unusual ? `, ${x.unusual}` : ""}`}
        width={width}
        height={height + 26}
        className="mt-1 block"
        onPointerMove={(e) => {
          const box = e.currentTarget.getBoundingClientRect();
          const i = Math.floor(((e.clientX - box.left) / plot) * m.n);
          setHover(i >= 0 && i < m.n ? i : null);
        }}
        onPointerLeave={() => setHover(null)}
      >
        <path d={bandPath(x.usual.low, x.usual.high, shape)} fill="var(--water)" opacity={0.3} />
        <path d={linePath(x.usual.mid, shape)} fill="none" stroke="var(--water)" strokeOpacity={0.5} />
        {x.limit &&
          (
            [
              [x.limit.strained, "var(--ochre)"],
              [x.limit.failing, "var(--magenta)"],
            ] as const
          ).map(
            ([v, tone]) =>
              v !== null &&
              v <= top && (
                <line
                  key={tone}
                  x1={0}
                  x2={plot}
                  y1={y(v)}
                  y2={y(v)}
                  stroke={tone}
                  strokeDasharray="4 3"
                  strokeWidth={1}
                />
              ),
          )}
        <path d={linePath(x.row, shape)} fill="none" stroke="var(--ink)" strokeWidth={1.3} />
        <text x={plot + 8} y={10} fontSize={11} fill="var(--quiet)">
          {figureWords(top, x.unit)}
        </text>
        <text x={plot + 8} y={height} fontSize={11} fill="var(--quiet)">
          0
        </text>
        {at !== null && (
          <line
            x1={((at + 0.5) / m.n) * plot}
            x2={((at + 0.5) / m.n) * plot}
            y1={0}
            y2={height}
            stroke="var(--ink)"
            strokeOpacity={0.45}
          />
        )}
        <Ruler marks={marks} x={(t) => ((t - from) / (to - from)) * plot} y={height} width={plot} />
      </svg>
    </figure>
  );
}
