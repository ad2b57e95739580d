import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useId, useState } from "react";
import { clock, count, day } from "../model/format";
import { layerTone } from "../model/layers";
import { byLayer, changedWords, levelFault, levelWords, onIt, pastWords, readLevel } from "../model/limits";
import { ask, send } from "../model/service";
import type { Identity, LimitInForce, LimitList, StretchList } from "../model/types";
import { Heading } from "../part/Heading";
import { useAddress } from "../ui/address";
import { Button, PageLink } from "../ui/Button";
import { Glyph } from "../ui/Glyph";
import { Failure, Waiting } from "../ui/States";

/** What conditions are judged by: of the object in the address bar, or of all. */
export default function LimitsPage() {
  const { search } = useAddress();
  const { data, error } = useQuery({
    queryKey: ["limits", search.of],
    queryFn: ({ signal }) => ask<LimitList>("/limits", { of: search.of }, { signal }),
  });
  if (!data) return <Waiting error={error} />;
  return <View list={data} />;
}

function View({ list }: { list: LimitList }) {
  const { change } = useAddress();
  const who = useQuery({ queryKey: ["who"], queryFn: () => ask<Identity>("/session"), staleTime: 300_000 });
  const may = !!who.data && who.data.role !== "viewer";
  const [editing, setEditing] = useState<LimitInForce | null>(null);
  const changed = list.changes.filter((c) => !c.until).length;
  return (
    <div className="pb-12">
      <Heading
        title={list.of ? `Limits of ${list.name}` : "Limits"}
        about="what conditions are judged by"
        statement={
          <p className="text-[14px]">
            {list.limits.length === 0
              ? "Nothing of it is limited: there is no reading by which it could be called strained."
              : `${count(list.limits.length, "limit", "limits")}. ${changed === 0 ? "All are as they come" : `${changed} ${changed === 1 ? "is" : "are"} changed`}; each stands with its reason. What is above one for a tenth of the time is strained, or failing.`}
          </p>
        }
      >
        {list.of && (
          <>
            <button
              type="button"
              onClick={() => change({ of: undefined })}
              className="cursor-pointer text-[12px] text-quiet hover:text-ink"
            >
              all objects
            </button>
            <PageLink page="section">Section</PageLink>
          </>
        )}
      </Heading>
      <Passed of={list.of} />
      {byLayer(list.limits).map((g) => (
        <section key={g.layer} className="mx-6 mt-6">
          <h2 className="flex items-center gap-2 border-b border-line pb-1.5 text-[12px] font-semibold">
            <span className="h-2.5 w-2.5 rounded-[2px]" style={{ background: layerTone[g.layer] }} />
            {g.layer}
          </h2>
          <ul className="text-[12.5px]">
            {g.limits.map((l) => (
              <Limit
                key={`${l.kind} ${l.metric} ${l.strained} ${l.failing} ${l.reason}`}
                l={l}
                onChange={may ? () => setEditing(l) : undefined}
              />
            ))}
          </ul>
        </section>
      ))}
      <History list={list} />
      {editing && <Change l={editing} of={list.of} name={list.name} onClose={() => setEditing(null)} />}
    </div>
  );
}

function Limit({ l, onChange }: { l: LimitInForce; onChange?: () => void }) {
  return (
    <li className="grid grid-cols-[120px_118px_190px_minmax(0,1fr)_96px_64px] items-baseline gap-x-4 border-b border-line py-[6px] hover:bg-well">
      <span>{l.label}</span>
      <span className="text-quiet">{l.aspect}</span>
      <span className="flex items-center gap-4 tabular-nums">
        <Level mark="strained" words={levelWords(l.strained, l.unit)} />
        <Level mark="failing" words={levelWords(l.failing, l.unit)} />
      </span>
      <span className="text-quiet">
        <span className="text-ink">{l.words}</span>:{" "}
        <span className={l.changed ? "font-medium text-ink" : ""}>{l.reason.replaceAll(" %", "\u00a0%")}</span>
      </span>
      <span className="text-right text-[12px] text-quiet tabular-nums" title={`for example ${l.example}`}>
        {count(l.objects, "object", "objects")}
      </span>
      <span className="text-right">
        {onChange && (
          <button
            type="button"
            aria-label={`Change the limit of ${l.label}: ${l.aspect} (${l.words})`}
            onClick={onChange}
            className="cursor-pointer text-[12px] text-water underline decoration-line underline-offset-4 hover:decoration-current"
          >
            change
          </button>
        )}
      </span>
    </li>
  );
}

function Level({ mark, words }: { mark: "strained" | "failing"; words: string }) {
  return (
    <span className="inline-flex w-[84px] items-center gap-1.5">
      {words === "never" ? <span className="w-[9px]" /> : <Glyph mark={mark} size={9} />}
      <span className={words === "never" ? "text-quiet" : ""}>{words}</span>
    </span>
  );
}

/** What was past its limits in the window, or in the last day where none is chosen. */
function Passed({ of }: { of?: string }) {
  const { search } = useAddress();
  const from = search.from ?? "-24h";
  const { data } = useQuery({
    queryKey: ["stretches", of, from, search.to],
    queryFn: ({ signal }) =>
      ask<StretchList>("/stretches", { of, from, to: search.to, limit: of ? "50" : "12" }, { signal }),
    refetchInterval: 60_000,
    placeholderData: keepPreviousData,
  });
  if (!data) return null;
  return (
    <section className="mx-6 mt-4" data-testid="passed">
      <h2 className="border-b border-line pb-1.5 text-[12px] font-semibold">
        {search.from ? "Past them in this window" : "Past them in the last day"}
      </h2>
      {data.stretches.length === 0 && (
        <p className="py-2 text-[12.5px] text-quiet">
          {data.until
            ? "Nothing was."
            : "Nothing was judged yet: readings of two hours are needed first, then every minute is."}
        </p>
      )}
      <ul className="text-[12.5px]">
        {data.stretches.map((x) => (
          <li
            key={`${x.ref} ${x.metric} ${x.from}`}
            className="grid grid-cols-[14px_220px_112px_minmax(0,1fr)_150px_150px] items-baseline gap-x-3 border-b border-line py-[5px]"
          >
            <span className="self-center">
              <Glyph mark={x.level} />
            </span>
            <span className="truncate">
              <PageLink plain page="section" of={x.ref} className="font-medium hover:underline">
                {x.owner ? `${x.owner} ${x.name}` : x.name}
              </PageLink>
              <span className="ml-2 text-[11px] text-quiet">{x.label}</span>
            </span>
            <span className="text-quiet">{x.aspect}</span>
            <span className="truncate">
              {x.words}
              <span className="ml-2 text-[11.5px] text-quiet">{onIt(x)}</span>
            </span>
            <span className="text-quiet tabular-nums">
              {day(Date.parse(x.from))}, {clock(Date.parse(x.from))}
            </span>
            <span className={`text-right tabular-nums ${x.lasts ? "font-medium" : "text-quiet"}`}>{pastWords(x)}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function History({ list }: { list: LimitList }) {
  const queries = useQueryClient();
  const restore = useMutation({
    mutationFn: (c: LimitList["changes"][number]) =>
      send<LimitList>(
        "DELETE",
        `/limits?${new URLSearchParams({ kind: c.kind, metric: c.metric, ...(c.within && { of: c.within }) })}`,
      ),
    onSuccess: () => queries.invalidateQueries(),
  });
  if (list.changes.length === 0) return null;
  return (
    <section className="mx-6 mt-7" data-testid="limit-history">
      <h2 className="border-b border-line pb-1.5 text-[12px] font-semibold">What people changed</h2>
      {restore.error ? <Failure error={restore.error} /> : null}
      <ul className="text-[12.5px]">
        {list.changes.map((c) => (
          <li
            key={c.id}
            className="grid grid-cols-[minmax(0,1.1fr)_190px_minmax(0,1fr)_200px_64px] items-baseline gap-x-4 border-b border-line py-[6px]"
          >
            <span className={c.until ? "text-quiet" : ""}>{changedWords(c, list.limits)}</span>
            <span className="flex gap-4 tabular-nums">
              <Level mark="strained" words={levelWords(c.strained, unitOf(list, c.metric))} />
              <Level mark="failing" words={levelWords(c.failing, unitOf(list, c.metric))} />
            </span>
            <span className="text-quiet">“{c.why}”</span>
            <span className="text-right text-[12px] text-quiet">
              {c.by}, {day(Date.parse(c.at))} {clock(Date.parse(c.at))}
              {c.until && ` until ${day(Date.parse(c.until))} ${clock(Date.parse(c.until))}`}
            </span>
            <span className="text-right">
              {!c.until && (
                <button
                  type="button"
                  onClick={() => restore.mutate(c)}
                  className="cursor-pointer text-[12px] text-water underline decoration-line underline-offset-4 hover:decoration-current"
                >
                  restore
                </button>
              )}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

const unitOf = (list: LimitList, metric: string) => list.limits.find((l) => l.metric === metric)?.unit ?? "share";

const field =
  "mt-1 block w-full rounded-md border border-line bg-paper px-2.5 h-8 text-[13px] hover:border-quiet placeholder:text-quiet";

/** Changes a limit: for the object asked about, for what is in an object, or for all of its kind. */
function Change({ l, of, name, onClose }: { l: LimitInForce; of?: string; name?: string; onClose: () => void }) {
  const queries = useQueryClient();
  const id = useId();
  const [strained, setStrained] = useState(levelWords(l.strained, l.unit));
  const [failing, setFailing] = useState(levelWords(l.failing, l.unit));
  const [within, setWithin] = useState(of ?? "");
  const [why, setWhy] = useState("");
  const fault = levelFault(strained, failing);
  const put = useMutation({
    mutationFn: () =>
      send<LimitList>(
        "PUT",
        `/limits?${new URLSearchParams({ kind: l.kind, metric: l.metric, ...(within && { of: within }) })}`,
        { strained: readLevel(strained), failing: readLevel(failing), why },
      ),
    onSuccess: async () => {
      await queries.invalidateQueries();
      onClose();
    },
  });
  return (
    <Dialog.Root open onOpenChange={(open) => !open && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/20" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed left-1/2 top-24 z-50 w-[460px] max-w-[92vw] -translate-x-1/2 rounded-lg border border-line bg-card p-5 shadow-xl"
        >
          <Dialog.Title className="text-[15px] font-semibold first-letter:uppercase">
            {l.label}: {l.aspect}
          </Dialog.Title>
          <p className="mt-1 text-[12.5px] text-quiet first-letter:uppercase">{l.reason}.</p>
          <form
            className="mt-3"
            onSubmit={(e) => {
              e.preventDefault();
              if (!fault && why) put.mutate();
            }}
          >
            <div className="grid grid-cols-2 gap-x-4 text-[12px] text-quiet">
              <label htmlFor={`${id}s`}>
                Strained above
                <input
                  id={`${id}s`}
                  className={`${field} text-ink`}
                  value={strained}
                  onChange={(e) => setStrained(e.target.value)}
                />
              </label>
              <label htmlFor={`${id}f`}>
                Failing above
                <input
                  id={`${id}f`}
                  className={`${field} text-ink`}
                  value={failing}
                  onChange={(e) => setFailing(e.target.value)}
                />
              </label>
            </div>
            {fault && <p className="mt-1 text-[12px] text-magenta">{fault}</p>}
            <label htmlFor={`${id}w`} className="mt-3 block text-[12px] text-quiet">
              Only for this object, or those in it
              <input
                id={`${id}w`}
                className={`${field} text-ink`}
                value={within}
                onChange={(e) => setWithin(e.target.value)}
                placeholder={`every ${l.label}`}
                spellCheck={false}
              />
            </label>
            {of && within === of && <p className="mt-1 text-[12px] text-quiet">That is {name}.</p>}
            <label htmlFor={`${id}y`} className="mt-3 block text-[12px] text-quiet">
              Why, for those who come after
              <input
                id={`${id}y`}
                className={`${field} text-ink`}
                value={why}
                onChange={(e) => setWhy(e.target.value)}
              />
            </label>
            {put.error ? <Failure error={put.error} /> : null}
            <div className="mt-4 flex justify-end gap-2.5">
              <Button onClick={onClose}>Leave it</Button>
              <Button type="submit" disabled={!!fault || !why || put.isPending}>
                Change it
              </Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
