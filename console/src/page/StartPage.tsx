import { useQuery } from "@tanstack/react-query";
import { clock, count, day, lasting } from "../model/format";
import { ask } from "../model/service";
import type { Found, Overview } from "../model/types";
import { PageLink } from "../ui/Button";
import { Glyph } from "../ui/Glyph";
import { Empty, Failure, Skeleton } from "../ui/States";
import { kindWords } from "./SectionPage";

/** Where one begins: what is watched, how fresh it is, and what could not be joined. */
export function StartPage() {
  const { data: o, error } = useQuery({
    queryKey: ["estate"],
    queryFn: () => ask<Overview>("/estate"),
    refetchInterval: 60_000,
  });
  if (error && !o)
    return (
      <div className="px-6">
        <Failure error={error} />
      </div>
    );
  if (!o)
    return (
      <div className="px-6">
        <Skeleton />
      </div>
    );
  if (o.sources.length === 0)
    return (
      <div className="px-6">
        <Empty title="Nothing is watched yet">
          Bring in a feed of your estate with <code className="text-ink">dowse import estate.ndjson</code>, or see the
          demo with <code className="text-ink">make demo</code>. As soon as a feed is in, every object in it can be
          found here.
        </Empty>
      </div>
    );
  const of = (kind: string) => o.counts.find((c) => c.kind === kind)?.count ?? 0;
  return (
    <div className="px-6 pb-10 pt-6">
      <h1 className="text-[22px] font-semibold tracking-tight">Who complains?</h1>
      <p className="mt-1 max-w-[760px] text-[14px] text-quiet">
        Press <kbd className="rounded border border-line px-1.5">/</kbd> and type part of a name, a WWN, an NAA
        identifier or a LUN number. Watched are {count(of("vm"), "VM", "VMs")} on {count(of("host"), "host", "hosts")},{" "}
        {count(of("datastore"), "datastore", "datastores")}, {count(of("array"), "array", "arrays")} and{" "}
        {count(of("fabric"), "fabric", "fabrics")}.
      </p>
      <Begin />
      <h2 className="mt-9 text-[13px] font-semibold">Sources</h2>
      <table className="mt-1 w-full max-w-[1000px] text-[13px]">
        <thead>
          <tr className="border-b border-line text-left text-[12px] text-quiet">
            <th className="py-1.5 font-normal">source</th>
            <th className="w-28 text-right font-normal">objects</th>
            <th className="w-56 pl-10 font-normal">latest feed</th>
            <th className="w-44 font-normal">newest reading</th>
            <th className="w-32 font-normal">state</th>
          </tr>
        </thead>
        <tbody>
          {o.sources.map((s) => (
            <tr key={s.name} className="border-b border-line">
              <td className="py-2 font-medium">{s.name}</td>
              <td className="text-right">{s.objects.toLocaleString("en-GB")}</td>
              <td className="pl-10 text-quiet">
                {day(Date.parse(s.last_feed))}, {clock(Date.parse(s.last_feed))}
              </td>
              <td className="text-quiet">{s.age_s < 0 ? "none yet" : `${lasting(s.age_s)} ago`}</td>
              <td>
                <span className="inline-flex items-center gap-1.5">
                  {s.silent && <Glyph mark="silent" />}
                  {s.silent ? "silent" : s.age_s < 0 ? "inventory only" : "reporting"}
                </span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <h2 className="mt-9 text-[13px] font-semibold">
        {o.finding_count === 0 ? (
          "Everything joins"
        ) : (
          <PageLink
            plain
            page="unresolved"
            className="underline underline-offset-4 decoration-line hover:decoration-current"
          >
            {count(o.finding_count, "finding", "findings")}
          </PageLink>
        )}
      </h2>
      {o.finding_count === 0 ? (
        <p className="mt-1 text-quiet">
          Every identifier that one source names is known to another; the map has no gap.
        </p>
      ) : (
        <ul className="mt-1 max-w-[1000px]">
          {o.findings.slice(0, 8).map((f) => (
            <li key={f.object + f.detail} className="border-b border-line py-1.5">
              <PageLink plain page="section" of={f.object} className="font-medium hover:underline">
                {f.name}
              </PageLink>{" "}
              <span className="text-quiet">{f.detail}</span>
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

/** A few objects to begin with, for those who do not know a name yet. */
function Begin() {
  const list = (kind: string, n: number) => ask<Found>("/objects", { kind, limit: String(n) });
  const { data } = useQuery({
    queryKey: ["begin"],
    queryFn: () => Promise.all([list("vm", 100), list("pool", 6), list("datastore", 20)]),
    staleTime: 300_000,
  });
  if (!data) return <div className="skeleton mt-6 h-24 max-w-[1000px]" />;
  const [vms, pools, datastores] = data;
  const groups = [
    { kind: "vm", all: vms, shown: vms.objects.filter((v) => v.tier === "1").slice(0, 6) },
    { kind: "datastore", all: datastores, shown: datastores.objects.slice(0, 6) },
    { kind: "pool", all: pools, shown: pools.objects },
  ];
  return (
    <div className="mt-6 grid max-w-[1000px] gap-y-3">
      {groups.map((g) =>
        g.all.total > 0 ? (
          <div key={g.kind} className="grid grid-cols-[130px_1fr] items-baseline gap-x-4">
            <span className="text-quiet">
              {g.kind === "vm" ? "a slow VM" : g.kind === "pool" ? "a hot pool" : "a datastore"}
            </span>
            <span className="flex flex-wrap gap-x-4 gap-y-1">
              {(g.shown.length ? g.shown : g.all.objects.slice(0, 8)).map((o) => (
                <PageLink
                  key={o.ref}
                  plain
                  page="section"
                  of={o.ref}
                  className="text-water underline underline-offset-4 decoration-line hover:decoration-current"
                  title={kindWords(o.kind)}
                >
                  {o.kind === "pool" ? `${o.owner ?? ""} ${o.name}` : o.name}
                </PageLink>
              ))}
              {g.all.total > g.shown.length && (
                <span className="text-quiet">and {g.all.total - g.shown.length} more</span>
              )}
            </span>
          </div>
        ) : null,
      )}
    </div>
  );
}
