import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { clock, count, day, micros, rate, signed, sure } from "../model/format";
import { behind, hurtWords, markOf, whenWords } from "../model/incident";
import { ask, send } from "../model/service";
import type { Identity, IncidentDetail, IncidentInfo, IncidentList } from "../model/types";
import { ExplanationView } from "../part/ExplanationView";
import { Heading } from "../part/Heading";
import { useAddress } from "../ui/address";
import { Button, IncidentLink, PageLink } from "../ui/Button";
import { Glyph } from "../ui/Glyph";
import { Empty, Failure, Waiting } from "../ui/States";

/** What hurt without anybody having asked: the list, or one of them. */
export default function IncidentsPage() {
  const { search } = useAddress();
  return search.no ? <One key={search.no} no={search.no} /> : <List />;
}

function List() {
  const { search } = useAddress();
  const from = search.from ?? "-8d";
  const { data, error } = useQuery({
    queryKey: ["incidents", from, search.to],
    queryFn: ({ signal }) => ask<IncidentList>("/incidents", { from, to: search.to, limit: "500" }, { signal }),
    refetchInterval: (q) => (behind(q.state.data?.until, Date.now()) ? 3_000 : 30_000),
    placeholderData: keepPreviousData,
  });
  if (!data) return <Waiting error={error} />;
  const lasting = data.incidents.filter((i) => !i.ended).length;
  return (
    <div className="pb-10">
      <Heading
        title="Incidents"
        about={search.from ? "in this window" : "of the last eight days"}
        statement={
          <p className="text-[14px]">
            {data.incidents.length === 0
              ? "None in this window."
              : `${count(data.incidents.length, "incident", "incidents")}, ${lasting === 0 ? "all over" : `${lasting} of them ${lasting === 1 ? "lasts" : "last"}`}. Each is one cause with all that it hurt.`}
          </p>
        }
      />
      {data.incidents.length === 0 ? (
        <div className="px-6">
          <Empty title="Nothing hurt">
            {data.until
              ? `Every disk was watched until ${day(Date.parse(data.until))}, ${clock(Date.parse(data.until))}. Make the window longer to see earlier incidents.`
              : "Incidents are looked for once readings of two hours are there."}
          </Empty>
        </div>
      ) : (
        <Table of={data.incidents} />
      )}
    </div>
  );
}

function Table({ of }: { of: IncidentInfo[] }) {
  return (
    <ul className="mx-6 mt-4 border-t border-line text-[13px]" data-testid="incident-list">
      {of.map((i) => (
        <li key={i.id} className="border-b border-line">
          <IncidentLink
            no={i.id}
            className="grid grid-cols-[14px_196px_120px_minmax(0,1fr)_130px_84px] items-baseline gap-x-3 py-[7px] hover:bg-well"
          >
            <span className="self-center">
              <Glyph mark={markOf(i)} />
            </span>
            <span className="text-[12px] text-quiet tabular-nums">{whenWords(i, Date.now())}</span>
            <span className="text-[12px] text-quiet">{i.words}</span>
            <span className="min-w-0">
              <span className={i.ended ? "" : "font-semibold"}>{i.summary}</span>
              {i.acknowledged_by && <span className="text-quiet"> · {i.acknowledged_by} is on it</span>}
            </span>
            <span className="text-[12px] text-quiet">{hurtWords(i)}</span>
            <span className="text-right text-[12px] text-quiet tabular-nums">
              {i.confidence ? `${sure(i.confidence)} sure` : "not known"}
            </span>
          </IncidentLink>
        </li>
      ))}
    </ul>
  );
}

function One({ no }: { no: string }) {
  const key = ["incident", no];
  const { data, error } = useQuery({
    queryKey: key,
    queryFn: ({ signal }) => ask<IncidentDetail>(`/incidents/${encodeURIComponent(no)}`, {}, { signal }),
    refetchInterval: 30_000,
  });
  if (!data) return <Waiting error={error} />;
  return <Detail x={data} />;
}

function Detail({ x }: { x: IncidentDetail }) {
  const queries = useQueryClient();
  const who = useQuery({ queryKey: ["who"], queryFn: () => ask<Identity>("/session"), staleTime: 300_000 });
  const may = who.data && who.data.role !== "viewer";
  const [failed, setFailed] = useState<unknown>();
  const act = (method: string, path: string, body?: unknown) =>
    send<IncidentDetail>(method, `/incidents/${x.id}${path}`, body).then(
      (now) => {
        setFailed(undefined);
        queries.setQueryData(["incident", String(x.id)], now);
      },
      (e: unknown) => setFailed(e),
    );
  return (
    <div className="pb-12">
      <Heading
        title={`Incident ${x.id}`}
        about={
          <span className="inline-flex items-center gap-2">
            <Glyph mark={markOf(x)} />
            {whenWords(x, Date.now())} · {hurtWords(x)} hurt · {rate(x.harm_s)} I/O-seconds waited
          </span>
        }
      >
        {x.acknowledged_by && <span className="text-[12px] text-quiet">{x.acknowledged_by} is on it</span>}
        {may && (
          <Button onClick={() => void act(x.acknowledged_by ? "DELETE" : "PUT", "/acknowledged")}>
            {x.acknowledged_by ? "Give it back" : "I am on it"}
          </Button>
        )}
        {x.component && (
          <PageLink page="suspects" of={x.component.ref}>
            Suspects
          </PageLink>
        )}
        <PageLink page="explain" of={x.subject}>
          Explain now
        </PageLink>
      </Heading>
      {failed ? (
        <div className="px-6">
          <Failure error={failed} />
        </div>
      ) : null}
      <ExplanationView x={x.explanation} />
      <div className="mx-6 mt-7 grid grid-cols-2 gap-x-10 max-[900px]:grid-cols-1">
        <Suffered x={x} />
        <div>
          <Comments x={x} may={!!may} say={(words) => act("POST", "/comments", { words })} />
          {x.similar.length > 0 && (
            <>
              <h2 className="mt-6 text-[13px] font-semibold">Like it before</h2>
              <ul className="mt-1 text-[12.5px]">
                {x.similar.map((i) => (
                  <li key={i.id} className="border-b border-line py-1.5">
                    <IncidentLink no={i.id} className="hover:underline">
                      {i.summary}
                    </IncidentLink>
                    <span className="text-quiet"> · {whenWords(i, Date.now())}</span>
                  </li>
                ))}
              </ul>
            </>
          )}
        </div>
      </div>
    </div>
  );
}

function Suffered({ x }: { x: IncidentDetail }) {
  return (
    <div>
      <h2 className="text-[13px] font-semibold">Hurt while it lasted</h2>
      <table className="mt-1 w-full text-[12.5px] tabular-nums">
        <thead>
          <tr className="border-b border-line text-left text-[11.5px] text-quiet">
            <th className="py-1 font-normal">VM</th>
            <th className="font-normal">application</th>
            <th className="font-normal">tier</th>
            <th className="text-right font-normal">added at most</th>
            <th className="text-right font-normal">I/O-seconds waited</th>
          </tr>
        </thead>
        <tbody>
          {x.suffered.slice(0, 40).map((s) => (
            <tr key={s.ref} className="border-b border-line">
              <td className="py-1">
                <PageLink plain page="strata" of={s.ref} className="font-medium hover:underline">
                  {s.name}
                </PageLink>
              </td>
              <td className="text-quiet">{s.application}</td>
              <td className="text-quiet">{s.tier}</td>
              <td className="text-right">{signed(s.added_us, micros)}</td>
              <td className="text-right">{rate(s.harm_s)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {x.suffered.length > 40 && (
        <p className="pt-1.5 text-[12px] text-quiet">
          and {x.suffered.length - 40} more: <code>dowse incidents show {x.id} --json</code> lists all
        </p>
      )}
    </div>
  );
}

function Comments({ x, may, say }: { x: IncidentDetail; may: boolean; say: (words: string) => Promise<void> }) {
  const [words, setWords] = useState("");
  return (
    <div>
      <h2 className="text-[13px] font-semibold">Comments</h2>
      <ul className="mt-1 text-[12.5px]" data-testid="comments">
        {x.comments.map((c) => (
          <li key={c.at + c.words} className="border-b border-line py-1.5">
            <span className="text-quiet">
              {c.by}, {day(Date.parse(c.at))} {clock(Date.parse(c.at))}
            </span>
            <div className="whitespace-pre-wrap">{c.words}</div>
          </li>
        ))}
        {x.comments.length === 0 && <li className="py-1.5 text-quiet">Nobody has written anything yet.</li>}
      </ul>
      {may && (
        <form
          className="mt-2 flex items-start gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            if (words.trim()) void say(words).then(() => setWords(""));
          }}
        >
          <textarea
            aria-label="Comment"
            value={words}
            onChange={(e) => setWords(e.target.value)}
            rows={2}
            className="min-w-0 flex-1 rounded-md border border-line bg-card px-2.5 py-1.5 text-[12.5px]"
            placeholder="What you saw or did"
          />
          <Button type="submit" disabled={!words.trim()}>
            Write
          </Button>
        </form>
      )}
    </div>
  );
}
