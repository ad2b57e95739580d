import { clock, day, lasting, micros, percent } from "../model/format";
import type { NeighbourList, Slowed } from "../model/types";
import { useAddress } from "../ui/address";
import { PageLink } from "../ui/Button";
import { Glyph } from "../ui/Glyph";
import { Waiting } from "../ui/States";
import { useAsk } from "../ui/useAsk";
import { FindKey } from "./Answer";
import { Heading } from "./Heading";

/** Where in the whole estate to look: shared components that slowed, with the machine that stands out, where one does. */
export function EstateSuspects() {
  const { search } = useAddress();
  const { data, error } = useAsk<NeighbourList>("/neighbours", { ...search, of: "estate" });
  if (!data) return <Waiting error={error} />;
  return (
    <div className="pb-12">
      <Heading
        title="Suspects"
        about="in the whole estate: every LUN, pool and controller that machines share"
        statement={<p className="text-[14px]">{data.says}</p>}
      />
      <div className="px-6 pt-4">
        {data.slowed.length > 0 && (
          <div className={`${columns} border-b border-line pb-1 text-[12px] text-quiet`}>
            <span />
            <span>component</span>
            <span>since</span>
            <span className="text-right">time per I/O</span>
            <span className="text-right">slower</span>
            <span>who stands out</span>
            <span className="text-right">of what was added</span>
          </div>
        )}
        <ul className="text-[12.5px]" data-testid="slowed">
          {data.slowed.map((x) => (
            <Row key={x.ref} x={x} to={Date.parse(data.to)} />
          ))}
        </ul>
        <p className="pt-4 text-[12.5px] text-quiet">
          For any other component press <FindKey /> and choose it: its tenants stand side by side here.
        </p>
      </div>
    </div>
  );
}

const columns = "grid grid-cols-[14px_minmax(0,1.7fr)_186px_150px_84px_minmax(0,1fr)_112px] items-baseline gap-x-4";

function Row({ x, to }: { x: Slowed; to: number }) {
  const from = Date.parse(x.from);
  const end = x.to ? Date.parse(x.to) : to;
  return (
    <li className={`${columns} border-b border-line py-[6px] hover:bg-well`}>
      <span className="self-center">
        <Glyph mark={x.to ? "" : x.slower > 3 ? "failing" : "strained"} />
      </span>
      <span className="truncate">
        <PageLink plain page="suspects" of={x.ref} className="font-medium hover:underline">
          {x.owner ? `${x.owner} ${x.name}` : x.name}
        </PageLink>
        <span className="ml-2 text-[11px] text-quiet">
          {x.label}
          {x.also.length > 0 && `, and ${x.also.length} that wait with it`}
        </span>
      </span>
      <span className="text-quiet tabular-nums">
        {day(from)}, {clock(from)}, {lasting((end - from) / 1000)}
      </span>
      <span className="text-right tabular-nums">
        <span className="text-quiet">{micros(x.before_us)} → </span>
        {micros(x.during_us)}
      </span>
      <span className="text-right tabular-nums">
        {x.slower} <span className="text-quiet">of {x.tenants}</span>
      </span>
      <span className="min-w-0">{who(x)}</span>
      <span className="text-right tabular-nums">
        {x.outcome === "culprit" && x.first[0] ? percent(x.first[0].share) : ""}
      </span>
    </li>
  );
}

function who(x: Slowed) {
  if (x.where)
    return (
      <span className="text-quiet">
        nobody: waits for{" "}
        <PageLink plain page="suspects" of={x.where.ref} className="text-ink hover:underline">
          {x.where.name}
        </PageLink>
      </span>
    );
  if (x.outcome === "itself") return <span className="text-quiet">nobody: slower by itself</span>;
  const first = x.first[0];
  if (x.outcome === "everybody" || !first) return <span className="text-quiet">no single machine</span>;
  return (
    <PageLink plain page="section" of={first.ref} className="font-semibold text-magenta hover:underline">
      {first.name}
    </PageLink>
  );
}
