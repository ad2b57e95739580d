import { ToggleGroup } from "radix-ui";
import { useMemo, useRef, useState } from "react";
import { byteRate, clock, clockSeconds, micros, rate } from "../model/format";
import { layerTone, within } from "../model/layers";
import { scaleWith, ticks } from "../model/ruler";
import { bandPath, linePath, stackPaths } from "../model/stack";
import type { Direction, Strata } from "../model/types";
import { between, ordinaryWords } from "../model/usual";
import { fixed } from "../model/window";
import { useAddress } from "../ui/address";
import { Hint } from "../ui/Hint";
import { useWidth } from "../ui/useWidth";
import { ExportMenu } from "./ExportMenu";
import { Lane, laneHeight, margin, short } from "./Lane";

interface Props {
  strata: Strata;
  dir: "read" | "write";
  height: number;
  ruler?: boolean;
  note?: string; // what to write at the change
  onDir?: (dir: "read" | "write") => void; // lets the reader choose between reads and writes
}

/** Latency by layer, IOPS and throughput on one time axis. Dragging over it chooses a window. */
export function StrataChart({ strata, dir, height, ruler = true, note, onDir }: Props) {
  const [ref, width] = useWidth<HTMLDivElement>();
  const svg = useRef<SVGSVGElement>(null);
  const [hover, setHover] = useState<number | null>(null);
  const [drag, setDrag] = useState<[number, number] | null>(null);
  const { change } = useAddress();
  const d: Direction = strata[dir];
  const from = Date.parse(strata.from);
  const step = strata.step_s * 1000;
  const to = from + step * strata.n;
  const plotWidth = Math.max(100, width - margin.left - margin.right);
  const scale = useMemo(() => scaleWith(d.total_us, d.ordinary?.high), [d]);
  const ordinary = useMemo(() => {
    const shape = { width: plotWidth, height, top: scale.top, n: strata.n };
    return (
      d.ordinary && {
        area: bandPath(d.ordinary.low, d.ordinary.high, shape),
        edges: linePath(d.ordinary.low, shape) + linePath(d.ordinary.high, shape),
      }
    );
  }, [d, plotWidth, height, scale, strata.n]);
  const stack = useMemo(
    () => stackPaths(d.bands, { width: plotWidth, height, top: scale.top, n: strata.n }),
    [d, plotWidth, height, scale, strata.n],
  );
  const marks = useMemo(() => ticks(from, to, plotWidth), [from, to, plotWidth]);
  const x = (at: number) => ((at - from) / (to - from)) * plotWidth;
  const y = (v: number) => height - (v / scale.top) * height;
  const iopsAt = height + 14;
  const bytesAt = iopsAt + laneHeight + 10;
  const axisAt = bytesAt + laneHeight + 6;
  const total = axisAt + (ruler ? 24 : 6);
  const cell = (clientX: number) => {
    const box = svg.current?.getBoundingClientRect();
    const at = box ? clientX - box.left - margin.left : 0;
    return Math.max(0, Math.min(strata.n - 1, Math.floor((at / plotWidth) * strata.n)));
  };
  const choose = () => {
    if (drag && Math.abs(drag[1] - drag[0]) >= 3) {
      const [a, b] = [Math.min(...drag), Math.max(...drag)];
      change({ ...fixed({ from: from + a * step, to: from + (b + 1) * step }) });
    }
    setDrag(null);
  };
  const known = d.total_us.some((v) => v !== null);
  const since = strata.change && strata.change.direction === dir ? Date.parse(strata.change.from) : undefined;
  const begun = since === undefined ? undefined : Math.max(since, from); // it may have begun before what is shown
  const ended = strata.change && !strata.change.persists ? Date.parse(strata.change.to) : undefined;
  const words = `${dir === "read" ? "Read" : "Write"} latency by layer from ${clock(from)} to ${clock(to)}: mean ${micros(d.mean_us)}, worst ${micros(d.worst_us)}`;
  return (
    <figure ref={ref} data-testid={`strata-${dir}`} className="relative select-none">
      <figcaption className="flex items-center gap-4 px-6 pb-1.5 text-[11px]">
        <span className="text-[12px] font-semibold">
          {dir === "read" ? "Read latency by layer" : "Write latency by layer"}
        </span>
        {onDir && (
          <ToggleGroup.Root
            type="single"
            aria-label="Reads or writes"
            value={dir}
            onValueChange={(v) => v && onDir(v as "read" | "write")}
            className="flex rounded-md border border-line bg-card"
          >
            {(["read", "write"] as const).map((d) => (
              <ToggleGroup.Item
                key={d}
                value={d}
                className="h-[21px] cursor-pointer px-2 text-[11px] text-quiet data-[state=on]:bg-well data-[state=on]:font-medium data-[state=on]:text-ink"
              >
                {d}s
              </ToggleGroup.Item>
            ))}
          </ToggleGroup.Root>
        )}
        <Legend bands={d.bands.filter((b) => b.time_us.some((t) => t)).map((b) => b.layer)} />
        {d.ordinary && (
          <Hint text={ordinaryWords(d.ordinary)}>
            <span className="flex items-center gap-1.5 text-quiet">
              <svg width={14} height={10} aria-hidden="true">
                <path d="M0 1.5H14M0 8.5H14" stroke="var(--ink)" strokeOpacity={0.75} />
              </svg>
              usual then
            </span>
          </Hint>
        )}
        <span className="ml-auto text-quiet">{basis(strata)}</span>
        <ExportMenu name={`${strata.name}-${dir}-strata`} svg={svg} rows={() => table(strata, d)} />
      </figcaption>
      {!known && (
        <p className="absolute inset-x-0 top-16 text-center text-quiet">No {dir}s were measured in this window.</p>
      )}
      <svg
        ref={svg}
        role="img"
        aria-label={words}
        width={width}
        height={total}
        className="block cursor-crosshair"
        onPointerMove={(e) => {
          const i = cell(e.clientX);
          setHover(i);
          if (drag) setDrag([drag[0], i]);
        }}
        onPointerLeave={() => {
          setHover(null);
          setDrag(null);
        }}
        onPointerDown={(e) => {
          e.currentTarget.setPointerCapture(e.pointerId);
          setDrag([cell(e.clientX), cell(e.clientX)]);
        }}
        onPointerUp={choose}
      >
        <g transform={`translate(${margin.left} 2)`}>
          {scale.lines.map((v) => (
            <g key={v}>
              <line x1={0} x2={plotWidth} y1={y(v)} y2={y(v)} stroke="var(--line)" />
              <text x={plotWidth + 8} y={y(v) + 4} fontSize={11} fill="var(--quiet)">
                {short(micros(v))}
              </text>
            </g>
          ))}
          {stack.map((s) => (
            <path key={s.layer} d={s.d} fill={layerTone[s.layer]} />
          ))}
          {ordinary && (
            <g>
              <path d={ordinary.area} fill="var(--paper)" opacity={0.35} />
              <path d={ordinary.edges} fill="none" stroke="var(--paper)" strokeWidth={2.4} strokeOpacity={0.5} />
              <path d={ordinary.edges} fill="none" stroke="var(--ink)" strokeWidth={0.9} strokeOpacity={0.75} />
            </g>
          )}
          <line x1={0} x2={plotWidth} y1={height} y2={height} stroke="var(--quiet)" strokeOpacity={0.4} />
          <Lane label="IOPS" row={d.iops} y={iopsAt} width={plotWidth} n={strata.n} write={rate} />
          <Lane
            label="throughput"
            row={d.bytes_s}
            y={bytesAt}
            width={plotWidth}
            n={strata.n}
            write={byteRate}
            base={2}
          />
          {begun !== undefined && (
            <g>
              <line x1={x(begun)} x2={x(begun)} y1={-2} y2={axisAt} stroke="var(--magenta)" strokeWidth={1.3} />
              {ended !== undefined && (
                <line
                  x1={x(ended)}
                  x2={x(ended)}
                  y1={0}
                  y2={axisAt}
                  stroke="var(--magenta)"
                  strokeWidth={1}
                  strokeDasharray="3 3"
                />
              )}
              <ChangeNote
                x={x(begun)}
                width={plotWidth}
                text={`${since !== begun ? "since " : ""}${clock(since ?? begun)} ${note ?? `+${micros(strata.change?.added_us)} ${within(strata.change?.layer ?? "")}`}`}
              />
            </g>
          )}
          {hover !== null && (
            <line
              x1={((hover + 0.5) / strata.n) * plotWidth}
              x2={((hover + 0.5) / strata.n) * plotWidth}
              y1={0}
              y2={axisAt}
              stroke="var(--ink)"
              strokeOpacity={0.45}
            />
          )}
          {drag && drag[0] !== drag[1] && (
            <rect
              x={(Math.min(...drag) / strata.n) * plotWidth}
              width={((Math.abs(drag[1] - drag[0]) + 1) / strata.n) * plotWidth}
              y={0}
              height={axisAt}
              fill="var(--water)"
              opacity={0.16}
            />
          )}
          {ruler && <Ruler marks={marks} x={x} y={axisAt} width={plotWidth} />}
        </g>
      </svg>
      {hover !== null && known && (
        <Readout
          strata={strata}
          d={d}
          i={hover}
          x={margin.left + ((hover + 0.5) / strata.n) * plotWidth}
          width={width}
          at={from + (hover + 0.5) * step}
        />
      )}
    </figure>
  );
}

function ChangeNote({ x, width, text }: { x: number; width: number; text: string }) {
  const after = x < width - text.length * 6.2;
  return (
    <g transform={`translate(${x} 7)`}>
      <path d="M0 -5 4.5 0 0 5 -4.5 0Z" fill="var(--magenta)" />
      <text
        x={after ? 9 : -9}
        y={4}
        textAnchor={after ? "start" : "end"}
        fontSize={11}
        fontWeight={600}
        fill="var(--magenta)"
        stroke="var(--paper)"
        strokeWidth={3}
        paintOrder="stroke"
      >
        {text}
      </text>
    </g>
  );
}

export function Ruler({
  marks,
  x,
  y,
  width,
}: {
  marks: { at: number; label: string }[];
  x: (at: number) => number;
  y: number;
  width: number;
}) {
  return (
    <g transform={`translate(0 ${y})`}>
      <line x1={0} x2={width} stroke="var(--quiet)" strokeOpacity={0.6} />
      {marks.map((t) => (
        <g key={t.at} transform={`translate(${x(t.at)} 0)`}>
          <line y2={t.label ? 6 : 3.5} stroke="var(--quiet)" strokeOpacity={0.8} />
          {t.label && (
            <text y={19} textAnchor="middle" fontSize={11} fill="var(--quiet)">
              {t.label}
            </text>
          )}
        </g>
      ))}
    </g>
  );
}

function Legend({ bands }: { bands: string[] }) {
  return (
    <span className="flex items-center gap-3.5 text-quiet">
      {bands.map((b) => (
        <span key={b} className="flex items-center gap-1.5">
          <span className="h-2.5 w-2.5 rounded-[2px]" style={{ background: layerTone[b] }} />
          {b}
        </span>
      ))}
    </span>
  );
}

function Readout({
  strata,
  d,
  i,
  x,
  width,
  at,
}: {
  strata: Strata;
  d: Direction;
  i: number;
  x: number;
  width: number;
  at: number;
}) {
  const beside = x > width / 2 ? { right: width - x + 12 } : { left: x + 12 };
  return (
    <div
      className="pointer-events-none absolute top-8 z-10 w-[200px] rounded-md border border-line bg-card px-3 py-2 text-[11.5px] shadow-lg"
      style={beside}
    >
      <div className="font-semibold">
        {clockSeconds(at)} · {strata.step_s} s
      </div>
      {d.total_us[i] === null ? (
        <div className="mt-1 text-quiet">no reading, or no I/O</div>
      ) : (
        <dl className="mt-1 grid grid-cols-[1fr_auto]">
          {d.bands.map((b) => (
            <div key={b.layer} className="contents">
              <dt className="flex items-center gap-1.5 text-quiet">
                <span className="h-2 w-2 rounded-[2px]" style={{ background: layerTone[b.layer] }} />
                {b.layer}
              </dt>
              <dd className="text-right">
                {b.layer === "datastore" && !b.time_us[i] ? "not apart" : micros(b.time_us[i])}
              </dd>
            </div>
          ))}
          <dt className="font-medium">together</dt>
          <dd className="text-right font-medium">{micros(d.total_us[i])}</dd>
          {d.ordinary && typeof d.ordinary.high[i] === "number" && (
            <>
              <dt className="text-quiet">usual then</dt>
              <dd className="text-right text-quiet">
                {between(d.ordinary.low[i] ?? null, d.ordinary.high[i] ?? null)}
              </dd>
            </>
          )}
          <dt className="text-quiet">IOPS</dt>
          <dd className="text-right">{rate(d.iops[i])}</dd>
          <dt className="text-quiet">throughput</dt>
          <dd className="text-right">{byteRate(d.bytes_s[i])}</dd>
          <dt className="text-quiet">in flight</dt>
          <dd className="text-right">{rate(d.in_flight[i])}</dd>
        </dl>
      )}
    </div>
  );
}

function basis(s: Strata): string {
  const by = [...new Set(s.basis.map((b) => `${b.interval_s} s ${b.source}`))];
  const covered = s.coverage === null ? "" : ` · ${Math.round(s.coverage * 100)} % covered`;
  return `${by.join(" · ")}${covered}`;
}

/** The chart as rows: a heading, then a cell each. */
function table(s: Strata, d: Direction): (string | number | null)[][] {
  const head = ["time", ...d.bands.map((b) => `${b.layer} µs`), "total µs", "IOPS", "bytes/s", "in flight"];
  if (d.ordinary) head.push("usual from µs", "usual to µs");
  const from = Date.parse(s.from);
  return [
    head,
    ...d.total_us.map((v, i) => [
      new Date(from + i * s.step_s * 1000).toISOString(),
      ...d.bands.map((b) => b.time_us[i] ?? null),
      v,
      d.iops[i] ?? null,
      d.bytes_s[i] ?? null,
      d.in_flight[i] ?? null,
      ...(d.ordinary ? [d.ordinary.low[i] ?? null, d.ordinary.high[i] ?? null] : []),
    ]),
  ];
}
