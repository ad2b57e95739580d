import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { clockSeconds, count, day, windowWords } from "../model/format";
import { ask } from "../model/service";
import type { Changes } from "../model/types";
import { moving } from "../model/window";
import { ChangeLane } from "../part/ChangeLane";
import { ExportMenu } from "../part/ExportMenu";
import { Heading } from "../part/Heading";
import { useAddress } from "../ui/address";
import { PageLink } from "../ui/Button";
import { Waiting } from "../ui/States";

const words: Record<string, string> = {
  appeared: "new",
  gone: "gone",
  renamed: "renamed",
  migrated: "migrated",
  moved: "moved",
  mapped: "mapping",
  path_state: "path",
  state: "state",
  grew: "grew",
  shrank: "shrank",
  firmware: "firmware",
  used: "fullness",
  fact: "fact",
  link: "link",
};

/** What changed within the window, in the whole estate or on the routes of the object in the address bar. */
export default function ChangesPage() {
  const { search } = useAddress();
  const { of, from, to } = search;
  const { data, error } = useQuery({
    queryKey: ["changes", of, from, to],
    queryFn: ({ signal }) => ask<Changes>("/changes", { of, from, to, limit: "500" }, { signal }),
    refetchInterval: moving(search) ? 30_000 : false,
    placeholderData: keepPreviousData,
  });
  if (!data) return <Waiting error={error} />;
  return <View c={data} />;
}

function View({ c }: { c: Changes }) {
  const { change } = useAddress();
  const file = () => [
    ["at", "ref", "name", "kind", "what"],
    ...c.changes.map((x) => [x.at, x.ref, x.name, x.kind, x.what.map((w) => w.says).join("; ")]),
  ];
  let last = "";
  return (
    <div className="pb-10">
      <Heading
        title={c.of ? `Changes on the routes of ${c.name}` : "Changes of the estate"}
        about={windowWords(Date.parse(c.from), Date.parse(c.to))}
        statement={<p className="text-[14px]">{sentence(c)}</p>}
      >
        {c.of ? (
          <>
            <button
              type="button"
              onClick={() => change({ of: undefined })}
              className="cursor-pointer text-[12px] text-quiet hover:text-ink"
            >
              whole estate
            </button>
            <PageLink page="section" of={c.of}>
              Section
            </PageLink>
          </>
        ) : null}
        <ExportMenu name="changes" rows={file} />
      </Heading>
      <div className="px-6 pt-4">
        <ChangeLane changes={c} height={34} />
      </div>
      {c.total === 0 ? (
        <p className="px-6 pt-4 text-quiet">
          Make the window longer, at the top right or with the key −, to see earlier changes.
        </p>
      ) : (
        <ol className="px-6 pt-3 text-[12.5px]" data-testid="changes">
          {c.changes.map((x) => {
            const at = Date.parse(x.at);
            const head = day(at);
            const first = head !== last;
            last = head;
            const name = x.owner && x.kind !== "path" && x.kind !== "volume" ? `${x.owner} ${x.name}` : x.name;
            return (
              <li key={x.at + x.ref}>
                {first && <h2 className="border-b border-line pb-1 pt-4 text-[12px] font-semibold">{head}</h2>}
                <div className="grid grid-cols-[70px_76px_minmax(220px,1fr)_2fr] items-baseline gap-x-4 border-b border-line py-1.5 hover:bg-well">
                  <span className="tabular-nums text-quiet">{clockSeconds(at)}</span>
                  <span className="text-[11px] text-quiet">{words[x.what[0]?.code ?? ""] ?? ""}</span>
                  <span className="min-w-0 truncate">
                    <PageLink
                      plain
                      page={x.kind === "path" ? "changes" : "section"}
                      of={x.ref}
                      className="font-medium hover:underline"
                    >
                      {name}
                    </PageLink>
                    <span className="ml-2 text-[11px] text-quiet">{x.label}</span>
                  </span>
                  <span>{x.what.map((w) => w.says).join("; ") || "was sent anew"}</span>
                </div>
              </li>
            );
          })}
        </ol>
      )}
      {c.total > c.changes.length && (
        <p className="px-6 pt-3 text-[12px] text-quiet">
          {(c.total - c.changes.length).toLocaleString("en-GB")} earlier ones in this window: shorten it, or drag over
          the lane.
        </p>
      )}
    </div>
  );
}

const nouns: Record<string, [string, string]> = {
  new: ["new object", "new objects"],
  gone: ["gone", "gone"],
  renamed: ["renaming", "renamings"],
  migrated: ["migration", "migrations"],
  moved: ["move of a disk", "moves of disks"],
  mapping: ["change of mapping", "changes of mapping"],
  path: ["change of a path", "changes of paths"],
  state: ["change of state", "changes of state"],
  grew: ["growth", "growths"],
  shrank: ["shrinkage", "shrinkages"],
  firmware: ["change of firmware", "changes of firmware"],
  fullness: ["change of fullness", "changes of fullness"],
  fact: ["changed fact", "changed facts"],
  link: ["changed link", "changed links"],
};

function sentence(c: Changes): string {
  if (c.total === 0) return "Nothing changed in this window.";
  const by = new Map<string, number>();
  for (const x of c.changes) {
    const code = words[x.what[0]?.code ?? ""] ?? "other";
    by.set(code, (by.get(code) ?? 0) + 1);
  }
  const most = [...by.entries()].sort((a, b) => b[1] - a[1]).slice(0, 4);
  return `${count(c.total, "change", "changes")}: ${most.map(([w, n]) => count(n, nouns[w]?.[0] ?? w, nouns[w]?.[1] ?? w)).join(", ")}${by.size > 4 ? " and others" : ""}.`;
}
