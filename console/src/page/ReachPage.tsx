import { useQuery } from "@tanstack/react-query";
import { count, percent } from "../model/format";
import { ask } from "../model/service";
import type { Reach } from "../model/types";
import { Answer, FindKey } from "../part/Answer";
import { ExportMenu } from "../part/ExportMenu";
import { Heading } from "../part/Heading";
import { useAddress } from "../ui/address";
import { PageLink } from "../ui/Button";
import { Hint } from "../ui/Hint";
import { kindWords } from "./SectionPage";

const meaning: Record<string, string> = {
  "is cut off already": "It does not reach all its disks even with the object.",
  "would stop": "Without the object it no longer reaches all its disks.",
  "would lose a mirror leg": "It goes on by the other leg of a mirror.",
  "would lose a path": "It goes on by other paths.",
  "would lose RAID protection": "It goes on, but its RAID group could lose one drive less.",
  "would not notice":
    "Nothing it uses now would go: it depends on the object by ways that are dead or stand by elsewhere.",
};

const tone: Record<string, string> = {
  "is cut off already": "var(--magenta)",
  "would stop": "var(--magenta)",
  "would lose a mirror leg": "var(--ochre)",
  "would lose a path": "var(--ochre)",
};

/** All that depends on an object, the important ones first, and what its loss would mean for each. */
export default function ReachPage() {
  const { search } = useAddress();
  const query = useQuery({
    queryKey: ["reach", search.of, search.to],
    queryFn: ({ signal }) => ask<Reach>("/reach", { of: search.of, at: search.to, limit: "300" }, { signal }),
    enabled: !!search.of,
  });
  const words = (
    <>
      Press <FindKey /> and choose a switch, an array, a pool, any component. Its reach lists every VM that depends on
      it, and says which of them would stop without it.
    </>
  );
  return (
    <Answer of={search.of} query={query} empty={{ title: "Whose reach?", words }}>
      {(r) => <View r={r} />}
    </Answer>
  );
}

function View({ r }: { r: Reach }) {
  const name = [r.kind === "volume" ? "" : r.owner, r.name].filter(Boolean).join(" ");
  return (
    <div className="pb-10">
      <Heading
        title={name}
        about={`${r.label} · ${count(r.total, "VM depends", "VMs depend")} on it`}
        statement={<p className="text-[14px]">{sentence(r, name)}</p>}
      >
        <PageLink page="section">Section</PageLink>
        <PageLink page="changes">Changes</PageLink>
      </Heading>
      {r.total > 0 && (
        <div className="grid grid-cols-[1fr_250px] gap-8 px-6 pt-5 max-[900px]:grid-cols-1">
          <VMs r={r} />
          <div className="space-y-7 text-[12px]">
            <Bars
              title="If it were lost"
              rows={r.outcomes.map((o) => ({ name: o.outcome, count: o.count, tone: tone[o.outcome] }))}
              total={r.total}
              hints={meaning}
            />
            <Bars
              title="By service tier"
              rows={r.tiers.map((t) => ({ name: t.name ? `tier ${t.name}` : "no tier", count: t.count }))}
              total={r.total}
            />
            <Bars
              title="By application"
              rows={r.applications.slice(0, 8).map((t) => ({ name: t.name || "not said", count: t.count }))}
              total={r.total}
            />
            <div>
              <h2 className="font-semibold">Besides them</h2>
              <ul className="mt-1.5 space-y-1 text-quiet">
                {r.counts
                  .filter((c) => c.kind !== "vm")
                  .map((c) => (
                    <li key={c.kind} className="flex justify-between">
                      <span>{kindWords(c.kind)}</span>
                      <span className="tabular-nums">{c.count.toLocaleString("en-GB")}</span>
                    </li>
                  ))}
              </ul>
            </div>
          </div>
        </div>
      )}
    </div>
  );
}

function sentence(r: Reach, name: string): string {
  if (r.total === 0) return `No virtual machine depends on ${name}.`;
  const parts = r.outcomes.map((o) => `${o.count.toLocaleString("en-GB")} ${o.outcome}`);
  const list = parts.length > 1 ? `${parts.slice(0, -1).join(", ")} and ${parts.at(-1)}` : parts[0];
  return `If ${name} were lost, of ${count(r.total, "VM", "VMs")} ${list}.`;
}

function Bars({
  title,
  rows,
  total,
  hints = {},
}: {
  title: string;
  rows: { name: string; count: number; tone?: string }[];
  total: number;
  hints?: Record<string, string>;
}) {
  return (
    <div>
      <h2 className="font-semibold">{title}</h2>
      <ul className="mt-1.5 space-y-1.5">
        {rows.map((x) => (
          <li key={x.name}>
            <div className="flex justify-between gap-2">
              <Hint text={hints[x.name] ?? `${x.count} of ${total}`} side="left">
                <span>{x.name}</span>
              </Hint>
              <span className="tabular-nums text-quiet">{x.count.toLocaleString("en-GB")}</span>
            </div>
            <div className="mt-0.5 h-1.5 rounded-sm bg-well">
              <div
                className="h-full rounded-sm"
                style={{ width: `${Math.max(1, (100 * x.count) / total)}%`, background: x.tone ?? "var(--ribbon)" }}
              />
            </div>
          </li>
        ))}
      </ul>
    </div>
  );
}

function VMs({ r }: { r: Reach }) {
  const file = () => [
    ["ref", "name", "tier", "application", "host", "share", "state", "outcome"],
    ...r.vms.map((v) => [
      v.ref,
      v.name,
      v.tier ?? null,
      v.application ?? null,
      v.host ?? null,
      v.share,
      v.state,
      v.outcome,
    ]),
  ];
  return (
    <div className="min-w-0">
      <table className="w-full table-fixed text-[12px]">
        <thead>
          <tr className="border-b border-line text-left text-quiet">
            <th className="w-[24%] py-1.5 font-normal">virtual machine</th>
            <th className="w-[44px] font-normal">tier</th>
            <th className="font-normal">application</th>
            <th className="font-normal">host</th>
            <th className="w-[84px] text-right font-normal">
              <Hint text="Part of its I/O that goes through the object: by the operations of its disks over the hour before, and of its active paths those that lead over it.">
                <span>of its I/O</span>
              </Hint>
            </th>
            <th className="w-[68px] pl-5 font-normal">ways</th>
            <th className="w-[170px] pl-4 font-normal">
              if it were lost <ExportMenu name={`reach-${r.name}`} rows={file} />
            </th>
          </tr>
        </thead>
        <tbody data-testid="reach">
          {r.vms.map((v) => (
            <tr key={v.ref} className="border-b border-line hover:bg-well">
              <td className="truncate py-1.5 pr-3">
                <PageLink plain page="section" of={v.ref} className="font-medium hover:underline">
                  {v.name}
                </PageLink>
              </td>
              <td>{v.tier ?? "–"}</td>
              <td className="truncate pr-3 text-quiet">{v.application ?? "–"}</td>
              <td className="truncate pr-3 text-quiet">{v.host ?? "–"}</td>
              <td className="text-right tabular-nums">{percent(v.share)}</td>
              <td className="pl-5 text-quiet">{v.state}</td>
              <td className="pl-4">
                <span className="inline-flex items-center gap-1.5">
                  <span className="h-2 w-2 rounded-[2px]" style={{ background: tone[v.outcome] ?? "var(--line)" }} />
                  {v.outcome}
                </span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {r.total > r.vms.length && (
        <p className="mt-3 text-[12px] text-quiet">
          {(r.total - r.vms.length).toLocaleString("en-GB")} more: the file has those shown; dowse reach --limit lists
          all.
        </p>
      )}
    </div>
  );
}
