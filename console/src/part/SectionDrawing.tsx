import { Popover } from "radix-ui";
import { useMemo } from "react";
import { byteRate, lasting, micros, percent, rate, signed } from "../model/format";
import { layerTone, layerWords, mergedLayers } from "../model/layers";
import { toggled } from "../model/search";
import { type Card, cardHeight, layout, markOf } from "../model/section";
import type { SectionView } from "../model/types";
import { useAddress } from "../ui/address";
import { PageLink } from "../ui/Button";
import { Glyph } from "../ui/Glyph";
import { Hint } from "../ui/Hint";
import { useWidth } from "../ui/useWidth";

const left = 96;
const right = 200;

/** The cut through the layers: cards for objects, ribbons for routes, and what each layer adds. */
export function SectionDrawing({ view, dir }: { view: SectionView; dir: "read" | "write" }) {
  const [ref, width] = useWidth<HTMLDivElement>();
  const room = Math.max(520, width - left - right);
  const drawing = useMemo(() => layout(view, room), [view, room]);
  const bands = view.strata[dir].bands;
  const change = view.strata.change;
  const figure = (layer: string) => {
    const b = bands.find((x) => x.layer === layer);
    return change ? b?.added_us : b?.mean_us;
  };
  // Layers that no source tells apart show their time together, beside all of them.
  const spans = mergedLayers.filter((s) => bands.some((b) => b.layer === s.band));
  const spanned = (layer: string) => !figure(layer) && spans.some((s) => s.layers.includes(layer));
  const greatest = Math.max(1, ...bands.map((b) => Math.abs((change ? b.added_us : b.mean_us) ?? 0)));
  return (
    <div ref={ref} data-testid="section" className="relative overflow-x-auto" style={{ height: drawing.height }}>
      {drawing.bands.map((b) => {
        const tone = layerTone[b.layer];
        return (
          <div
            key={b.layer}
            className="absolute inset-x-0 border-b border-line"
            style={{ top: b.y, height: b.height, background: `color-mix(in srgb, ${tone} var(--band), var(--paper))` }}
          >
            <div className="absolute inset-y-0 left-0 w-1" style={{ background: tone }} />
            <Hint side="right" text={layerWords[b.layer]}>
              <span className="absolute left-4 top-1.5 text-[11px] font-semibold text-quiet">{b.layer}</span>
            </Hint>
            {!spanned(b.layer) && (
              <Added
                value={figure(b.layer)}
                greatest={greatest}
                change={!!change}
                tone={tone ?? ""}
                worst={change?.layer === b.layer && change.direction === dir}
                layer={b.layer}
                dir={dir}
              />
            )}
          </div>
        );
      })}
      {drawing.sites.length === 2 &&
        !drawing.cards.some((c) => overlaps(c, room / 2, (drawing.bands.at(-1)?.y ?? 0) + 46)) && (
          <span
            className="pointer-events-none absolute -translate-x-1/2 whitespace-nowrap text-[11px] text-quiet"
            style={{ top: (drawing.bands.at(-1)?.y ?? 0) + 46, left: left + room / 2 }}
          >
            <b className="font-semibold">{drawing.sites[0]}</b> ← site link →{" "}
            <b className="font-semibold">{drawing.sites[1]}</b>
          </span>
        )}
      {spans.map((s) => {
        const rows = drawing.bands.filter((b) => s.layers.includes(b.layer) && spanned(b.layer));
        const [top, last] = [rows[0], rows.at(-1)];
        if (!top || !last) return null;
        return (
          <div
            key={s.band}
            className="pointer-events-none absolute inset-x-0"
            style={{ top: top.y, height: last.y + last.height - top.y }}
          >
            <div
              className="absolute inset-y-2 w-1.5 border-y border-l border-quiet"
              style={{ right: right - 4 }}
              aria-hidden="true"
            />
            <div className="pointer-events-auto">
              <Added
                value={figure(s.band)}
                greatest={greatest}
                change={!!change}
                tone={layerTone[s.band] ?? ""}
                worst={change?.layer === s.band && change.direction === dir}
                layer={s.band}
                dir={dir}
              />
            </div>
          </div>
        );
      })}
      <svg
        aria-hidden="true"
        className="pointer-events-none absolute top-0"
        style={{ left }}
        width={room}
        height={drawing.height}
      >
        {drawing.ribbons.map((r) => (
          <path
            key={`${r.from} ${r.to}`}
            d={r.d}
            fill="none"
            stroke={
              r.state !== "active"
                ? "var(--quiet)"
                : r.mark === "failing"
                  ? "var(--magenta)"
                  : r.mark === "strained"
                    ? "var(--ochre)"
                    : "var(--ribbon)"
            }
            strokeWidth={r.width}
            strokeDasharray={
              r.state === "active" ? undefined : r.state === "dead" || r.state === "not zoned" ? "1 6" : "3 4"
            }
            opacity={r.state === "active" ? 1 : 0.6}
          />
        ))}
      </svg>
      <ul aria-label="Objects on the routes">
        {drawing.cards.map((c) => (
          <li
            key={c.key}
            className="absolute"
            style={{ left: left + c.x, top: c.y, width: c.width, height: cardHeight }}
          >
            {c.folded.length > 0 ? (
              <Fold card={c} view={view} />
            ) : c.group ? (
              <GroupCard card={c} group={c.group} />
            ) : (
              <ObjectCard card={c} view={view} />
            )}
          </li>
        ))}
      </ul>
    </div>
  );
}

/** Whether a card lies where the names of two sites are to stand. */
const overlaps = (c: Card, x: number, y: number) =>
  c.x < x + 105 && c.x + c.width > x - 105 && c.y < y + 18 && c.y + cardHeight > y - 4;

function Added({
  value,
  greatest,
  change,
  tone,
  worst,
  layer,
  dir,
}: {
  value: number | null | undefined;
  greatest: number;
  change: boolean;
  tone: string;
  worst: boolean;
  layer: string;
  dir: string;
}) {
  const known = value !== null && value !== undefined && !(layer === "datastore" && value === 0);
  const words = change ? signed(value, micros) : micros(value);
  return (
    <div className="absolute top-1/2 -translate-y-1/2" style={{ right: 24, width: right - 30 }}>
      <div className="flex items-center gap-2 text-[12px]">
        {known && value > 0 && (
          <div
            className="h-3 rounded-sm"
            style={{
              width: Math.max(2, (value / greatest) * (right - 115)),
              background: worst ? "var(--magenta)" : tone,
            }}
          />
        )}
        <Hint
          text={
            known
              ? `${change ? "Added per" : "Time per"} ${dir} in this layer. ${layerWords[layer]}`
              : "No source times I/O between this layer and its neighbours."
          }
        >
          <span className={worst ? "font-semibold text-magenta" : known ? "" : "text-quiet"}>
            {known ? words : "not measured apart"}
          </span>
        </Hint>
      </div>
    </div>
  );
}

const frames: Record<string, string> = {
  failing: "border-magenta border-[1.5px]",
  strained: "border-ochre border-[1.5px]",
  silent: "border-dashed border-quiet",
  "": "border-line",
};

const face = (c: Card) =>
  `flex h-full w-full flex-col justify-center rounded-[5px] border px-2.5 text-left hover:border-quiet ${frames[c.mark] ?? ""} ${c.focus ? "ring-1 ring-ink/50" : ""} ${c.idle ? "bg-transparent text-quiet" : "bg-card"}`;

function Face({ card: c }: { card: Card }) {
  return (
    <>
      <span className="flex items-center gap-1.5 leading-[15px]">
        <Glyph mark={c.mark} />
        <span
          className={`truncate text-[12px] font-semibold ${c.affected && !c.mark ? "border-b border-magenta/70" : ""}`}
        >
          {c.title}
        </span>
      </span>
      <span className="truncate text-[10.5px] leading-[14px] text-quiet">
        {c.idle ? `standby · ${c.line.split(" · ")[0]}` : c.line}
      </span>
    </>
  );
}

function ObjectCard({ card: c, view }: { card: Card; view: SectionView }) {
  const own = view.section.nodes[c.nodes[0] ?? 0];
  return (
    <Hint side="right" text={<Details card={c} view={view} />}>
      <PageLink plain page="section" of={own?.ref} className={face(c)} aria-current={c.focus ? "true" : undefined}>
        <Face card={c} />
      </PageLink>
    </Hint>
  );
}

/** A group of what is alike, told apart by the service: unfolds in place. */
function GroupCard({ card: c, group }: { card: Card; group: string }) {
  const { search, change } = useAddress();
  return (
    <Hint side="right" text={`${c.line} of ${c.title}. Unfold to see what is in it.`}>
      <button
        type="button"
        aria-expanded="false"
        onClick={() => change({ unfold: toggled(search.unfold, group, "|") })}
        className={`${face(c)} cursor-pointer border-b-[3px]`}
      >
        <Face card={c} />
      </button>
    </Hint>
  );
}

/** What is known of a card: both names, figures, why it is marked, who says so and how old it is. */
function Details({ card: c, view }: { card: Card; view: SectionView }) {
  const index = c.nodes[0] ?? 0;
  const n = view.section.nodes[index];
  const f = view.figures[index];
  if (!n || !f) return null;
  const lines: [string, string][] = [];
  if (f.iops !== null) lines.push(["I/O", `${rate(f.iops)}/s`]);
  if (f.bytes_s !== null) lines.push(["data", byteRate(f.bytes_s)]);
  if (f.read_latency_us !== null) lines.push(["per read", micros(f.read_latency_us)]);
  if (f.write_latency_us !== null) lines.push(["per write", micros(f.write_latency_us)]);
  if (f.busy_share !== null) lines.push([n.kind.endsWith("_port") ? "of line rate" : "busy", percent(f.busy_share)]);
  return (
    <div className="space-y-1.5">
      <div className="font-semibold">{[n.owner, n.name].filter(Boolean).join(" ")}</div>
      {n.aliases?.map((a) => (
        <div key={a} className="break-all text-[11px] opacity-80">
          {a}
        </div>
      ))}
      {f.reasons?.map((r) => (
        <div key={r.metric}>{r.words}</div>
      ))}
      {f.within && <div>Past its limits as a part of the whole above it, where the mark is.</div>}
      {(f.affected_by ?? []).length > 0 && (
        <div>Well itself, but it depends on {f.affected_by?.map((a) => a.split("@")[0]).join(", ")}.</div>
      )}
      {lines.length > 0 && (
        <dl className="grid grid-cols-[auto_1fr] gap-x-3">
          {lines.map(([k, v]) => (
            <div key={k} className="contents">
              <dt className="opacity-75">{k}</dt>
              <dd>{v}</dd>
            </div>
          ))}
        </dl>
      )}
      <div className="text-[11px] opacity-80">
        {f.interval_s > 0
          ? `${f.source}, every ${lasting(f.interval_s)}, newest ${lasting(f.age_s)} old, ${percent(f.coverage)} covered`
          : `${f.source}: no readings in this window`}
      </div>
    </div>
  );
}

/** A fold of many alike: opens to the list of them. */
function Fold({ card: c, view }: { card: Card; view: SectionView }) {
  const list = c.nodes
    .map((i) => ({ n: view.section.nodes[i], f: view.figures[i] }))
    .sort((a, b) => (b.f?.iops ?? b.f?.bytes_s ?? 0) - (a.f?.iops ?? a.f?.bytes_s ?? 0));
  return (
    <Popover.Root>
      <Popover.Trigger className={`${face(c)} cursor-pointer border-b-[3px]`}>
        <Face card={c} />
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          aria-label={c.title}
          side="right"
          align="start"
          sideOffset={8}
          collisionPadding={12}
          className="z-50 max-h-[420px] w-[330px] overflow-auto rounded-md border border-line bg-card p-1.5 shadow-xl"
        >
          {list.map(({ n, f }) =>
            n ? (
              <PageLink
                key={n.ref}
                plain
                page="section"
                of={n.ref}
                className="flex items-center gap-2 rounded px-2 py-1 hover:bg-well"
              >
                <Glyph mark={markOf(f)} size={8} />
                <span className="truncate text-[12px] font-medium">
                  {[n.kind === "volume" ? "" : n.owner, n.name].filter(Boolean).join(" ")}
                </span>
                <span className="ml-auto shrink-0 text-[11px] text-quiet">{f?.headline}</span>
              </PageLink>
            ) : null,
          )}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
