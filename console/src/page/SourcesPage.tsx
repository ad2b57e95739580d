import { useQuery } from "@tanstack/react-query";
import { lasting } from "../model/format";
import { ask } from "../model/service";
import { sourcesSentence, stateOf } from "../model/sources";
import type { Identity, SourceInfo } from "../model/types";
import { SourceDetail } from "../part/SourceDetail";
import { SourceForm } from "../part/SourceForm";
import { useAddress } from "../ui/address";
import { Button } from "../ui/Button";
import { Glyph } from "../ui/Glyph";
import { Waiting } from "../ui/States";

const kinds: Record<string, string> = {
  libvirt: "libvirt daemon",
  "iscsi-target": "iSCSI target daemon",
  feed: "feed, pulled",
  pushed: "feed, pushed",
  former: "removed",
};

/** Where facts come from, how each does, and how to add one. */
export default function SourcesPage() {
  const { search, change } = useAddress();
  const who = useQuery({ queryKey: ["who"], queryFn: () => ask<Identity>("/session"), staleTime: 300_000 });
  const { data, error } = useQuery({
    queryKey: ["sources"],
    queryFn: () => ask<SourceInfo[]>("/sources"),
    refetchInterval: 5_000,
  });
  if (!data) return <Waiting error={error} />;
  const adding = search.source === "+";
  const admin = who.data?.role === "admin";
  return (
    <div className="px-6 pb-10 pt-6">
      <div className="flex items-start gap-6">
        <div>
          <h1 className="text-[22px] font-semibold tracking-tight">Sources</h1>
          <p className="mt-1 max-w-[760px] text-[14px]">{sourcesSentence(data)}</p>
        </div>
        {!adding && admin && (
          <Button className="ml-auto mt-2" onClick={() => change({ source: "+" })}>
            Add a source
          </Button>
        )}
      </div>
      {adding && (
        <div className="mt-6 border-y border-line py-6">
          <SourceForm />
        </div>
      )}
      {data.length === 0 && !adding ? (
        <p className="mt-6 max-w-[620px] text-quiet">
          A source is a system that tells what there is and how it does: a libvirt daemon, an iSCSI target, an exporter
          of feeds. {admin ? "Add one, and its objects can be found in less than a minute." : "An admin can add one."}
        </p>
      ) : (
        <table className="mt-6 w-full">
          <thead>
            <tr className="border-b border-line text-left text-[12px] text-quiet">
              <th className="w-[190px] py-1.5 font-normal">source</th>
              <th className="w-[160px] font-normal">kind</th>
              <th className="font-normal">address</th>
              <th className="w-[90px] text-right font-normal">objects</th>
              <th className="w-[150px] pl-8 font-normal">newest reading</th>
              <th className="w-[130px] font-normal">state</th>
            </tr>
          </thead>
          <tbody data-testid="sources">
            {data.map((s) => (
              <Row key={s.name} s={s} open={search.source === s.name} onOpen={(name) => change({ source: name })} />
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}

function Row({ s, open, onOpen }: { s: SourceInfo; open: boolean; onOpen: (name: string | undefined) => void }) {
  const state = stateOf(s);
  const gone = s.kind === "former";
  return (
    <>
      <tr className={`${open ? "" : "border-b border-line"} ${gone ? "text-quiet" : ""} hover:bg-well`}>
        <td className="py-2">
          <button
            type="button"
            aria-expanded={open}
            onClick={() => onOpen(open ? undefined : s.name)}
            className="cursor-pointer text-left font-medium"
          >
            <span aria-hidden="true" className="mr-1.5 inline-block w-3 text-quiet">
              {open ? "▾" : "▸"}
            </span>
            {s.name}
          </button>
        </td>
        <td>{kinds[s.kind] ?? s.kind}</td>
        <td className="max-w-0 truncate pr-4 text-quiet" title={s.address}>
          {s.address ?? "sends by itself"}
        </td>
        <td className="text-right">{s.known ? s.known.objects.toLocaleString("en-GB") : "–"}</td>
        <td className="pl-8 text-quiet">
          {!s.known || s.known.age_s < 0 ? "none yet" : `${lasting(s.known.age_s)} ago`}
        </td>
        <td>
          <span className="inline-flex items-center gap-1.5">
            <Glyph mark={state.mark} />
            {state.word}
          </span>
        </td>
      </tr>
      {open && (
        <tr className="border-b border-line">
          <td colSpan={6}>
            <SourceDetail name={s.name} />
          </td>
        </tr>
      )}
    </>
  );
}
