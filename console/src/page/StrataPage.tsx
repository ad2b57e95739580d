import { clock, count, lasting, micros, percent, signed } from "../model/format";
import { layerTone, layerWords, mergedLayers } from "../model/layers";
import type { Changes, Contradiction, Direction, Strata } from "../model/types";
import { Answer, FindKey } from "../part/Answer";
import { ChangeLane } from "../part/ChangeLane";
import { Heading } from "../part/Heading";
import { margin } from "../part/Lane";
import { Statement } from "../part/Statement";
import { StrataChart } from "../part/StrataChart";
import { useAddress } from "../ui/address";
import { PageLink } from "../ui/Button";
import { Glyph } from "../ui/Glyph";
import { Hint } from "../ui/Hint";
import { useAsk } from "../ui/useAsk";
import { kindWords } from "./SectionPage";

/** Read and write latency split by layer on one time ruler, with the figures and what they rest on. */
export default function StrataPage() {
  const { search } = useAddress();
  const query = useAsk<Strata>("/strata", search);
  const words = (
    <>
      Press <FindKey /> and choose a VM, a datastore or any component. Its strata show where the time of each I/O goes,
      layer by layer.
    </>
  );
  return (
    <Answer of={search.of} query={query} empty={{ title: "Whose latency?", words }}>
      {(s) => <View s={s} />}
    </Answer>
  );
}

function View({ s }: { s: Strata }) {
  const { search } = useAddress();
  // An application is no object: changes on routes are those of its machines.
  const changes = useAsk<Changes>("/changes", s.kind === "application" ? { ...search, of: undefined } : search, {
    limit: "40",
  });
  return (
    <>
      <Heading
        title={s.name}
        about={`${kindWords(s.kind)} · ${s.disks === 1 ? "1 virtual disk" : `${s.disks} virtual disks together`}`}
        statement={<Statement phrases={s.statement} />}
      >
        {s.change?.component && s.change.shared_by > 1 && (
          <PageLink page="suspects" of={s.change.component}>
            Suspects {s.change.shared_by}
          </PageLink>
        )}
        {s.kind === "application" ? (
          <PageLink page="explain">Explain</PageLink>
        ) : (
          <PageLink page="section">Section</PageLink>
        )}
      </Heading>
      <div className="h-3" />
      {s.disks > 0 && (
        <>
          <StrataChart strata={s} dir="read" height={118} ruler={false} />
          <div className="h-2" />
          <StrataChart strata={s} dir="write" height={88} />
          {changes.data && changes.data.total > 0 && s.kind !== "application" && (
            <div className="px-6 pt-3">
              <PageLink plain page="changes" className="text-[12px] font-semibold hover:underline">
                {count(changes.data.total, "change on its routes", "changes on its routes")}
              </PageLink>
              <ChangeLane changes={changes.data} height={20} margin={margin.right - margin.left} />
            </div>
          )}
          <Contradictions of={s.contradictions} />
          <Figures strata={s} />
          <Basis strata={s} />
        </>
      )}
    </>
  );
}

/** Places that time the same I/O and cannot both be right. */
function Contradictions({ of }: { of: Contradiction[] }) {
  if (of.length === 0) return null;
  return (
    <section className="mx-6 mt-4 border-l-2 border-ochre pl-4 text-[12.5px]" data-testid="contradictions">
      <h2 className="flex items-center gap-2 font-semibold">
        <Glyph mark="strained" />
        Layers contradict each other
      </h2>
      {of.map((c) => (
        <p key={c.direction + c.inner} className="mt-1 max-w-[980px] text-quiet">
          {c.words}
        </p>
      ))}
    </section>
  );
}

function Figures({ strata: s }: { strata: Strata }) {
  return (
    <div className="grid grid-cols-2 gap-x-10 px-6 pt-4 max-[900px]:grid-cols-1">
      <Layers name="reads" d={s.read} s={s} worst={s.change?.direction === "read" ? s.change.layer : undefined} />
      <Layers name="writes" d={s.write} s={s} worst={s.change?.direction === "write" ? s.change.layer : undefined} />
    </div>
  );
}

const cell = "py-[5px] text-right";

function Layers({ name, d, s, worst }: { name: string; d: Direction; s: Strata; worst?: string }) {
  const changed = !!s.change;
  return (
    <table className="w-full text-[12px]">
      <caption className="pb-1 text-left text-[12px] font-semibold">Time per I/O, {name}</caption>
      <thead>
        <tr className="border-b border-line text-quiet">
          <th className="py-1 text-left font-normal">layer</th>
          {(changed ? ["before", "during", "added"] : ["mean", "of all"]).map((h) => (
            <th key={h} className="w-24 text-right font-normal">
              {h}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {d.bands.map((b) => (
          <tr key={b.layer} className="border-b border-line">
            <th scope="row" className="py-[5px] text-left font-medium">
              <Hint text={layerWords[b.layer]}>
                <span className="inline-flex items-center gap-2">
                  <span className="h-2.5 w-2.5 rounded-[2px]" style={{ background: layerTone[b.layer] }} />
                  {b.layer}
                </span>
              </Hint>
            </th>
            {!b.mean_us && (b.layer === "datastore" || wholeOf(b.layer, d)) ? (
              <td colSpan={3} className={`${cell} text-quiet`}>
                {wholeOf(b.layer, d) ? `within “${wholeOf(b.layer, d)}”` : "not measured apart"}
              </td>
            ) : changed ? (
              <>
                <td className={cell}>{micros(b.usual_us)}</td>
                <td className={cell}>{micros(b.during_us)}</td>
                <td className={`${cell} ${worst === b.layer ? "font-semibold text-magenta" : ""}`}>
                  {signed(b.added_us, micros)}
                </td>
              </>
            ) : (
              <>
                <td className={cell}>{micros(b.mean_us)}</td>
                <td className={cell}>{percent(b.mean_us !== null && d.mean_us ? b.mean_us / d.mean_us : null)}</td>
              </>
            )}
          </tr>
        ))}
        <tr>
          <th scope="row" className="py-[5px] text-left font-semibold">
            together
          </th>
          {changed ? (
            <>
              <td className={`${cell} font-semibold`}>{micros(d.usual_us)}</td>
              <td className={`${cell} font-semibold`}>{micros(d.during_us)}</td>
              <td className={`${cell} font-semibold`}>
                {signed(d.during_us !== null && d.usual_us !== null ? d.during_us - d.usual_us : null, micros)}
              </td>
            </>
          ) : (
            <>
              <td className={`${cell} font-semibold`}>{micros(d.mean_us)}</td>
              <td className={`${cell} text-quiet`}>of all</td>
            </>
          )}
        </tr>
        <tr>
          <td colSpan={changed ? 4 : 3} className="border-t border-line py-[5px] text-quiet">
            {d.mean_us === null ? (
              "No I/O in this window."
            ) : (
              <>
                Half of all {name} within {micros(d.p50_us)}, 95 % within {micros(d.p95_us)}, 99 % within{" "}
                {micros(d.p99_us)}; worst {micros(d.worst_us)}
                {d.worst_at && ` at ${clock(Date.parse(d.worst_at))}`}
              </>
            )}
          </td>
        </tr>
      </tbody>
    </table>
  );
}

/** The band in which a layer's time is where nobody measures it apart. */
const wholeOf = (layer: string, d: Direction) =>
  mergedLayers.find((m) => m.layers.includes(layer) && d.bands.some((b) => b.layer === m.band && b.mean_us))?.band;

/** What the figures rest on: who timed the I/O where, how often, and how much of the window. */
function Basis({ strata: s }: { strata: Strata }) {
  return (
    <div className="px-6 pb-10 pt-5">
      <table className="w-full text-[12px]">
        <caption className="pb-1 text-left text-[12px] font-semibold">What this rests on</caption>
        <thead>
          <tr className="border-b border-line text-left text-quiet">
            <th className="py-1 font-normal">I/O is timed at</th>
            <th className="font-normal">by</th>
            <th className="w-24 text-right font-normal">objects</th>
            <th className="w-24 text-right font-normal">every</th>
            <th className="w-24 text-right font-normal">covered</th>
          </tr>
        </thead>
        <tbody>
          {s.basis.map((b) => (
            <tr key={b.point + b.source} className="border-b border-line">
              <td className="py-[5px]">{b.point}</td>
              <td>{b.source}</td>
              <td className={cell}>{b.objects}</td>
              <td className={cell}>{b.interval_s > 0 ? lasting(b.interval_s) : "–"}</td>
              <td className={cell}>{percent(b.coverage)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {s.notes.map((n) => (
        <p key={n} className="mt-2 text-[12px] text-quiet">
          {n}
        </p>
      ))}
    </div>
  );
}
