import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { AlertDialog } from "radix-ui";
import { type ReactNode, useState } from "react";
import { clockSeconds, lasting } from "../model/format";
import { ask, ServiceError, send } from "../model/service";
import { due, figure, never } from "../model/sources";
import type { Identity, Probed, SourceInfo } from "../model/types";
import { kindWords } from "../page/SectionPage";
import { Button } from "../ui/Button";
import { Joins, ProbeLine } from "./ProbeLine";

const at = (text: string | undefined) => (never(text) ? "never" : clockSeconds(Date.parse(text as string)));

/** One source, unfolded: what arrives, how it agrees with the source's own figures, what it joins, what went wrong. */
export function SourceDetail({ name }: { name: string }) {
  const { data: s } = useQuery({
    queryKey: ["source", name],
    queryFn: () => ask<SourceInfo>(`/sources/${encodeURIComponent(name)}`),
    refetchInterval: 5_000,
  });
  const who = useQuery({ queryKey: ["who"], queryFn: () => ask<Identity>("/session"), staleTime: 300_000 });
  const probe = useMutation({
    mutationFn: () => send<Probed>("POST", `/sources/${encodeURIComponent(name)}/probe`),
  });
  if (!s) return <div className="skeleton my-3 h-24" />;
  const h = s.health;
  return (
    <div className="pb-6 pl-5 pt-1">
      {h && (
        <p className={`max-w-[820px] ${h.state === "failing" ? "border-l-2 border-magenta pl-3" : ""}`}>
          <span className="block first-letter:uppercase">{h.words}.</span>
          {h.try && <span className="block text-quiet first-letter:uppercase">{h.try}.</span>}
        </p>
      )}
      <div className="mt-3 grid grid-cols-[300px_1fr] gap-x-14 max-[900px]:block">
        <div>
          {h && <First s={s} />}
          {h && Object.keys(h.objects).length > 0 && (
            <dl className="mt-3 grid grid-cols-[1fr_auto] gap-y-0.5 border-t border-line pt-2">
              {Object.entries(h.objects)
                .sort(([a], [b]) => a.localeCompare(b))
                .map(([kind, n]) => (
                  <Pair key={kind} of={kindWords(kind)}>
                    {n.toLocaleString("en-GB")}
                  </Pair>
                ))}
            </dl>
          )}
        </div>
        <div>
          {h && h.compared.length > 0 && <Compared s={s} />}
          {s.joins && s.joins.length > 0 && <Joins joins={s.joins} />}
        </div>
      </div>
      {h && <Lately s={s} />}
      {probe.data && (
        <div className="mt-5">
          <ProbeLine probed={probe.data} />
        </div>
      )}
      {probe.error && (
        <p role="alert" className="mt-3 border-l-2 border-magenta pl-3">
          {probe.error instanceof ServiceError ? probe.error.message : "That did not work."}
        </p>
      )}
      {h && who.data?.role === "admin" && (
        <div className="mt-5 flex gap-2">
          <Button disabled={probe.isPending} onClick={() => probe.mutate()}>
            {probe.isPending ? "Probing …" : "Probe"}
          </Button>
          <Pause s={s} />
          <Remove s={s} />
        </div>
      )}
    </div>
  );
}

function Pair({ of, children }: { of: string; children: ReactNode }) {
  return (
    <>
      <dt className="text-quiet">{of}</dt>
      <dd className="text-right">{children}</dd>
    </>
  );
}

/** When it was asked, and in its first minutes what has come and what is awaited. */
function First({ s }: { s: SourceInfo }) {
  const h = s.health;
  if (!h) return null;
  const young = h.state === "first minutes";
  return (
    <dl className="grid grid-cols-[1fr_auto] gap-y-0.5">
      <Pair of="asked">every {lasting(s.interval_s ?? 0)}</Pair>
      <Pair of="last asked">{at(h.tried)}</Pair>
      <Pair of="last answer">{at(h.succeeded)}</Pair>
      <Pair of="the pass took">{h.took_s < 1 ? `${Math.round(h.took_s * 1000)} ms` : `${h.took_s.toFixed(1)} s`}</Pair>
      {young && <Pair of="first rate due">{due(h.first_rate, Date.now())}</Pair>}
      {never(h.newest) ? (
        <Pair of="newest reading ends">none yet</Pair>
      ) : (
        <>
          <Pair of="newest reading ends">{at(h.newest)}</Pair>
          <Pair of="stored after">{h.delay_s.toFixed(1)} s</Pair>
          <Pair of="series">{h.series.toLocaleString("en-GB")}</Pair>
        </>
      )}
      {s.secrets.length > 0 && <Pair of="secrets kept">{s.secrets.join(", ")}</Pair>}
    </dl>
  );
}

function Compared({ s }: { s: SourceInfo }) {
  return (
    <table className="w-full max-w-[640px]">
      <thead>
        <tr className="border-b border-line text-left text-[12px] text-quiet">
          <th className="py-1 font-normal">ours beside its own, at {at(s.health?.compared_at)}</th>
          <th className="text-right font-normal">ours</th>
          <th className="text-right font-normal">its own</th>
          <th className="w-20 pl-4 font-normal">&nbsp;</th>
        </tr>
      </thead>
      <tbody>
        {s.health?.compared.map((c) => (
          <tr key={c.what} className="border-b border-line">
            <td className="py-1">{c.what}</td>
            <td className="text-right">{figure(c.ours, c.unit)}</td>
            <td className="text-right">{figure(c.theirs, c.unit)}</td>
            <td className={`pl-4 ${c.agrees ? "text-quiet" : "font-medium text-ochre-ink"}`}>
              {c.agrees ? "agree" : "differ"}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Lately({ s }: { s: SourceInfo }) {
  const h = s.health;
  if (!h || (h.history.length === 0 && h.missing.length === 0)) return null;
  return (
    <div className="mt-4 max-w-[900px]">
      {h.missing.map((m) => (
        <p key={m} className="border-l-2 border-ochre pl-3">
          {m}
        </p>
      ))}
      {h.history.length > 0 && (
        <>
          <h3 className="mt-2 text-[12px] text-quiet">Lately</h3>
          <ul>
            {h.history.map((m) => (
              <li key={m.from + m.words} className="grid grid-cols-[150px_1fr] border-t border-line py-1">
                <span className="text-quiet">
                  {at(m.from)} – {never(m.to) ? "now" : at(m.to)}
                </span>
                <span>{m.words}</span>
              </li>
            ))}
          </ul>
        </>
      )}
    </div>
  );
}

function Pause({ s }: { s: SourceInfo }) {
  const queries = useQueryClient();
  const act = useMutation({
    mutationFn: () => send("PATCH", `/sources/${encodeURIComponent(s.name)}`, { paused: !s.paused }),
    onSuccess: () => queries.invalidateQueries(),
  });
  return (
    <Button disabled={act.isPending} onClick={() => act.mutate()}>
      {s.paused ? "Go on" : "Pause"}
    </Button>
  );
}

function Remove({ s }: { s: SourceInfo }) {
  const queries = useQueryClient();
  const [forget, setForget] = useState(false);
  const act = useMutation({
    mutationFn: () => send("DELETE", `/sources/${encodeURIComponent(s.name)}${forget ? "?forget=true" : ""}`),
    onSuccess: () => queries.invalidateQueries(),
  });
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger asChild>
        <Button>Remove</Button>
      </AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-40 bg-ink/30" />
        <AlertDialog.Content className="fixed left-1/2 top-1/3 z-50 w-[440px] max-w-[92vw] -translate-x-1/2 rounded-lg border border-line bg-card p-5 shadow-xl">
          <AlertDialog.Title className="text-[15px] font-semibold">Stop collecting from {s.name}?</AlertDialog.Title>
          <AlertDialog.Description className="mt-1 text-quiet">
            Its objects end now; their history stays and can be asked for.
          </AlertDialog.Description>
          <label className="mt-3 flex items-center gap-2">
            <input type="checkbox" checked={forget} onChange={(e) => setForget(e.target.checked)} />
            Forget also all that it brought. This cannot be undone.
          </label>
          <div className="mt-5 flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>Keep it</Button>
            </AlertDialog.Cancel>
            <AlertDialog.Action asChild>
              <Button onClick={() => act.mutate()}>{forget ? "Remove and forget" : "Remove"}</Button>
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
