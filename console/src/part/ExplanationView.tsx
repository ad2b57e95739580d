import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { micros, percent, rate, signed, sure } from "../model/format";
import { layerTone } from "../model/layers";
import { ask } from "../model/service";
import type { Explanation, Strata } from "../model/types";
import { PageLink } from "../ui/Button";
import { EvidenceLanes } from "./EvidenceLanes";
import { Statement } from "./Statement";
import { StrataChart } from "./StrataChart";

const classWords: Record<string, string> = {
  noisy_neighbour: "Noisy neighbour",
  own_demand: "Its own demand",
  crowd: "A crowd",
  growth: "Growth",
  degraded: "Slower by itself",
  slow_receiver: "Slow receiver",
  path: "Paths",
  host_queue: "Queue in the host",
  limit: "Limit reached",
  site_link: "Site link",
  cleared: "Not the storage",
  unknown: "Not known",
};

/** An explanation: the verdict in words, its evidence on one time axis, who did it, who suffers, what was cleared and what was not seen. */
export function ExplanationView({ x }: { x: Explanation }) {
  return (
    <div className="px-6" data-testid="explanation">
      <div className="mt-1 grid grid-cols-[minmax(0,1fr)_168px] gap-x-8">
        <Statement phrases={x.statement} />
        <div className="text-right">
          <div className={`text-[15px] font-semibold ${x.verdict.component ? "text-magenta" : ""}`} data-testid="class">
            {classWords[x.verdict.class] ?? x.verdict.class}
          </div>
          <div className="text-[12px] text-quiet">
            {x.verdict.confidence ? `${sure(x.verdict.confidence)} sure` : "too little is known"}
          </div>
        </div>
      </div>
      <Chart x={x} />
      <div className="mt-5 grid grid-cols-[minmax(0,5fr)_minmax(0,4fr)] gap-x-10 gap-y-6 max-[900px]:grid-cols-1">
        <div className="space-y-6">
          <Evidence x={x} />
          <Tenants x={x} />
          {!x.onset && <Layers x={x} />}
        </div>
        <div className="space-y-6">
          {x.onset && <Layers x={x} />}
          <Cleared x={x} />
          <Lines title="Not seen" of={x.unseen} />
          <Lines title="What would settle it" of={x.settle} />
          <Lines title="What usually helps" of={x.helps} />
        </div>
      </div>
    </div>
  );
}

/** The subject's latency by layer over the same time, in the direction that hurt. */
function Chart({ x }: { x: Explanation }) {
  const { data } = useQuery({
    queryKey: ["/strata", x.subject, x.from, x.to],
    queryFn: ({ signal }) => ask<Strata>("/strata", { of: x.subject, from: x.from, to: x.to }, { signal }),
    staleTime: 60_000,
  });
  if (!data) return <div className="skeleton mt-3 h-[118px]" />;
  if (data.disks === 0) return null;
  return (
    <div className="-mx-6 mt-3">
      <StrataChart strata={data} dir={x.direction === "write" ? "write" : "read"} height={104} />
      <EvidenceLanes x={x} />
    </div>
  );
}

function Head({ children }: { children: ReactNode }) {
  return <h2 className="text-[13px] font-semibold">{children}</h2>;
}

function Evidence({ x }: { x: Explanation }) {
  if (x.evidence.length === 0) return null;
  const named = x.verdict.component !== null;
  return (
    <div>
      <Head>{named ? "What speaks for it, and for what else it could be" : "What else it could be"}</Head>
      <table className="mt-1 w-full text-[12.5px]" data-testid="evidence">
        <thead>
          <tr className="border-b border-line text-left text-[11.5px] text-quiet">
            <th className="py-1 font-normal">component</th>
            <th className="font-normal">its readings say</th>
            <th className="w-24 text-right font-normal">{named ? "accounts for" : ""}</th>
          </tr>
        </thead>
        <tbody>
          {x.evidence.slice(0, 7).map((e, k) => (
            <tr key={e.of + e.words} className="border-b border-line align-baseline">
              <td className="max-w-[190px] truncate py-1.5 pr-3">
                <PageLink
                  plain
                  page={named && k === 0 ? "suspects" : "section"}
                  of={e.of}
                  className={`hover:underline ${e.of === x.verdict.component?.ref ? "font-semibold" : ""}`}
                >
                  {e.name}
                </PageLink>
              </td>
              <td className="py-1.5">
                <PageLink plain page="readings" of={e.of} className="hover:underline">
                  {e.words}
                </PageLink>
              </td>
              <td className="text-right tabular-nums">{e.weight === null ? "" : percent(e.weight)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Tenants({ x }: { x: Explanation }) {
  const accused = x.suspects.filter((s) => s.accused);
  const others = x.suspects.filter((s) => !s.accused).slice(0, 5);
  return (
    <>
      {x.suspects.length > 0 && (
        <div>
          <Head>{accused.length ? "Who did it" : "Nobody did it; who uses it"}</Head>
          <ul className="mt-1 border-t border-line text-[12.5px]" data-testid="who">
            {[...accused, ...others].map((s) => (
              <li key={s.ref} className="grid grid-cols-[150px_60px_1fr] gap-x-3 border-b border-line py-1.5">
                <PageLink
                  plain
                  page="strata"
                  of={s.ref}
                  className={`truncate hover:underline ${s.accused ? "font-semibold text-magenta" : ""}`}
                >
                  {s.name}
                </PageLink>
                <span className="text-right tabular-nums text-quiet">{s.score === null ? "–" : percent(s.score)}</span>
                <span className={s.accused ? "" : "text-quiet"}>{s.evidence}</span>
              </li>
            ))}
          </ul>
        </div>
      )}
      {x.sufferers.length > 0 && (
        <div>
          <Head>Who suffers: {x.sufferers.length}</Head>
          <table className="mt-1 w-full text-[12.5px] tabular-nums">
            <thead>
              <tr className="border-b border-line text-left text-[11.5px] text-quiet">
                <th className="py-1 font-normal">VM</th>
                <th className="font-normal">tier</th>
                <th className="font-normal">application</th>
                <th className="text-right font-normal">added an I/O</th>
                <th className="text-right font-normal">I/Os per second lost</th>
              </tr>
            </thead>
            <tbody>
              {x.sufferers.slice(0, 8).map((s) => (
                <tr key={s.ref} className="border-b border-line">
                  <td className="py-1">
                    <PageLink plain page="strata" of={s.ref} className="hover:underline">
                      {s.name}
                    </PageLink>
                  </td>
                  <td className="text-quiet">{s.tier}</td>
                  <td className="text-quiet">
                    {s.application && (
                      <PageLink plain page="strata" of={`application:${s.application}`} className="hover:underline">
                        {s.application}
                      </PageLink>
                    )}
                  </td>
                  <td className="text-right">{signed(s.added_us, micros)}</td>
                  <td className="text-right">{(s.lost_iops ?? 0) > 0 ? rate(s.lost_iops) : "none"}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {x.sufferers.length > 8 && x.verdict.component && (
            <PageLink
              plain
              page="suspects"
              of={x.verdict.component.ref}
              className="text-[12px] text-quiet hover:text-ink"
            >
              and {x.sufferers.length - 8} more
            </PageLink>
          )}
        </div>
      )}
    </>
  );
}

function Layers({ x }: { x: Explanation }) {
  const shown = x.layers.filter((l) => (l.read_us ?? 0) > 0 || (l.write_us ?? 0) > 0);
  if (shown.length === 0) return null;
  return (
    <div>
      <Head>Latency by layer{x.onset ? " while it hurt" : ""}</Head>
      <table className="mt-1 w-full text-[12.5px] tabular-nums">
        <thead>
          <tr className="border-b border-line text-left text-[11.5px] text-quiet">
            <th className="py-1 font-normal">layer</th>
            <th className="text-right font-normal">a read</th>
            <th className="text-right font-normal">a write</th>
            {x.onset && <th className="text-right font-normal">added an I/O</th>}
          </tr>
        </thead>
        <tbody>
          {shown.map((l) => (
            <tr key={l.layer} className="border-b border-line">
              <td className="py-1">
                <span className="mr-2 inline-block h-[10px] w-[3px]" style={{ background: layerTone[l.layer] }} />
                {l.layer}
              </td>
              <td className="text-right">{micros(l.read_us)}</td>
              <td className="text-right">{micros(l.write_us)}</td>
              {x.onset && (
                <td className={`text-right ${(l.added_us ?? 0) > 300 ? "font-semibold" : ""}`}>
                  {signed(l.added_us, micros)}
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** What was cleared and on what ground; each leads to where its readings stand on a time axis. */
function Cleared({ x }: { x: Explanation }) {
  if (x.cleared.length === 0) return null;
  return (
    <div>
      <Head>Cleared</Head>
      <ul className="mt-1 text-[12.5px] leading-snug text-quiet" data-testid="cleared">
        {x.cleared.slice(0, 9).map((g) => (
          <li key={g.words} className="border-b border-line py-1">
            <PageLink
              plain
              page={g.layer || g.ref === x.subject ? "strata" : "readings"}
              of={g.ref || x.subject}
              className="hover:text-ink hover:underline"
            >
              {g.layer ? `${g.layer}: ${g.words}` : g.words}
            </PageLink>
          </li>
        ))}
      </ul>
    </div>
  );
}

function Lines({ title, of, most = 6 }: { title: string; of: string[]; most?: number }) {
  if (of.length === 0) return null;
  return (
    <div>
      <Head>{title}</Head>
      <ul className="mt-1 text-[12.5px] leading-snug text-quiet">
        {of.slice(0, most).map((line) => (
          <li key={line} className="border-b border-line py-1">
            {line}
          </li>
        ))}
      </ul>
    </div>
  );
}
