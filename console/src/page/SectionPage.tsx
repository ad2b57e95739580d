import { clock, count, windowWords } from "../model/format";
import { parts } from "../model/search";
import type { Changes, SectionView } from "../model/types";
import { Answer, FindKey } from "../part/Answer";
import { ChangeLane } from "../part/ChangeLane";
import { Heading } from "../part/Heading";
import { MapMenu } from "../part/MapMenu";
import { SectionDrawing } from "../part/SectionDrawing";
import { Statement } from "../part/Statement";
import { StrataChart } from "../part/StrataChart";
import { useAddress } from "../ui/address";
import { PageLink } from "../ui/Button";
import { useAsk } from "../ui/useAsk";

/** The routes of an object through every layer, and under them its strata on the time ruler. */
export function SectionPage() {
  const { search } = useAddress();
  const query = useAsk<SectionView>("/section", search, { unfold: parts(search.unfold, "|") });
  const words = (
    <>
      Press <FindKey /> and type part of a VM's name, a WWN, an NAA identifier or a LUN number. Its section shows every
      route from the guest down to the drives, and up to every VM that depends on it.
    </>
  );
  return (
    <Answer of={search.of} query={query} empty={{ title: "Choose an object", words }} rows={8}>
      {(data) => <View data={data} />}
    </Answer>
  );
}

function View({ data }: { data: SectionView }) {
  const { search, change } = useAddress();
  const changes = useAsk<Changes>("/changes", search, { limit: "40" });
  const focus = data.section.nodes.find((n) => n.ref === data.section.focus);
  const host = focus?.kind === "vm" ? data.section.nodes.find((n) => n.kind === "host") : undefined;
  const change_ = data.strata.change;
  const dir = search.dir ?? (change_?.direction === "write" ? "write" : "read");
  const title =
    [focus && focus.kind !== "volume" ? focus.owner : "", focus?.name].filter(Boolean).join(" ") || data.section.focus;
  const suspects = suspectsOf(data);
  return (
    <>
      <Heading title={title} about={about(data, host?.name)} statement={<Statement phrases={data.strata.statement} />}>
        {suspects && (
          <PageLink page="suspects" of={suspects.ref}>
            Suspects {suspects.n}
          </PageLink>
        )}
        <PageLink page="strata">Strata</PageLink>
        <PageLink page="reach">Reach</PageLink>
        <MapMenu of={data.section.focus} at={search.to} />
      </Heading>
      <div className="flex h-5 items-baseline gap-4 pl-6 pr-6">
        {search.unfold && (
          <button
            type="button"
            onClick={() => change({ unfold: undefined })}
            className="cursor-pointer text-[11px] text-quiet underline underline-offset-2 hover:text-ink"
          >
            Fold all again
          </button>
        )}
        <span className="text-[11px] text-quiet">{marks(data)}</span>
        <span className="flex-1" />
        <span className="w-[170px] text-[11px] text-quiet">
          {change_
            ? `added per ${dir}, ${clock(Date.parse(change_.from))}–${clock(Date.parse(change_.to))}`
            : `time per ${dir}, over the window`}
        </span>
      </div>
      <SectionDrawing view={data} dir={dir} />
      <div className="pt-2">
        {data.strata.disks > 0 ? (
          <StrataChart
            strata={data.strata}
            dir={dir}
            height={70}
            note={note(data)}
            onDir={(d) => change({ dir: d }, true)}
          />
        ) : (
          <p className="px-6 py-6 text-quiet">No virtual disk depends on it, so there is no latency to split.</p>
        )}
      </div>
      {changes.data && changes.data.total > 0 && (
        <div className="flex items-end gap-3 px-6 pt-1">
          <PageLink plain page="changes" className="w-[60px] shrink-0 pb-6 text-[11px] text-quiet hover:text-ink">
            {count(changes.data.total, "change", "changes")}
          </PageLink>
          <div className="min-w-0 flex-1">
            <ChangeLane changes={changes.data} height={20} />
          </div>
        </div>
      )}
      <Breaks view={data} />
    </>
  );
}

/** Causes and what they affect, counted apart: one fault is one mark. */
function marks(view: SectionView): string {
  if (view.causes + view.affected === 0) return "";
  return `${count(view.causes, "object is past its limits by itself", "objects are past their limits by themselves")}, ${count(view.affected, "is affected by it", "are affected")}`;
}

function about(view: SectionView, host: string | undefined): string {
  const focus = view.section.nodes.find((n) => n.ref === view.section.focus);
  const words = [focus ? kindWords(focus.kind) : ""];
  if (focus?.tier) words.push(`tier ${focus.tier}`);
  if (host) words.push(`on ${host}`);
  if (focus?.kind !== "vm") words.push(`${count(view.section.vms, "VM depends", "VMs depend")} on it`);
  return words.filter(Boolean).join(" · ");
}

const labels: Record<string, string> = {
  vm: "virtual machine",
  vdisk: "virtual disk",
  hba_port: "host adapter port",
  switch_port: "switch port",
  target_port: "array port",
  isl: "inter-switch link",
  raid_group: "RAID group",
  share: "file share",
};

export const kindWords = (kind: string) => labels[kind] ?? kind.replaceAll("_", " ");

const remarkWords: Record<string, string> = {
  single_path: "Single path",
  single_fabric: "Single fabric",
  not_zoned: "Cabled, not zoned",
  preferred_site: "Preferred site",
  leg_lost: "Leg lost",
};

/** Whose tenants to compare: where the delay arises, or the object itself where it is shared. */
function suspectsOf(view: SectionView): { ref: string; n: number } | undefined {
  const c = view.strata.change;
  if (c?.component && c.shared_by > 1) return { ref: c.component, n: c.shared_by };
  const focus = view.section.nodes.find((n) => n.ref === view.section.focus);
  if (focus && focus.kind !== "vm" && focus.kind !== "vdisk" && view.section.vms > 1)
    return { ref: focus.ref, n: view.section.vms };
  return undefined;
}

function note(view: SectionView): string | undefined {
  const c = view.strata.change;
  return c?.component_name ? `${c.component_name} slows down` : undefined;
}

function Breaks({ view }: { view: SectionView }) {
  const list = view.section.breaks;
  const notes = view.strata.notes;
  const remarks = view.section.remarks;
  if (remarks.length + list.length + notes.length + view.events.length === 0) return <div className="h-6" />;
  return (
    <ul className="space-y-1 px-6 py-4 text-[12px] text-quiet">
      {remarks.slice(0, 6).map((r) => (
        <li key={r.code + r.says}>
          <b className="font-medium text-ink">{remarkWords[r.code] ?? r.code}</b>: {r.says}.
        </li>
      ))}
      {list.slice(0, 6).map((b) => (
        <li key={b.after + b.why}>
          The map ends after <b className="font-medium text-ink">{b.name}</b>: {b.why}.
        </li>
      ))}
      {notes.slice(0, 4).map((n) => (
        <li key={n}>{n}</li>
      ))}
      {view.events.slice(0, 6).map((e) => (
        <li key={e.ref + e.at}>
          {windowWords(Date.parse(e.at), Date.parse(e.at)).split("–")[0]}{" "}
          <b className="font-medium text-ink">{e.name}</b> {e.what}, {e.detail}.
        </li>
      ))}
    </ul>
  );
}
