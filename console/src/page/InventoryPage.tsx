import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { ArrowDown, ArrowUp, X } from "lucide-react";
import { useDeferredValue, useEffect, useRef, useState } from "react";
import { count } from "../model/format";
import { cell, kinds, operators, rows, telling } from "../model/inventory";
import { parts, toggled } from "../model/search";
import { ask } from "../model/service";
import type { Column, Inventory } from "../model/types";
import { ExportMenu } from "../part/ExportMenu";
import { useAddress } from "../ui/address";
import { Button, PageLink } from "../ui/Button";
import { Hint } from "../ui/Hint";
import { Failure, Skeleton } from "../ui/States";

const pageSize = 200;
const rowHeight = 30;

/** Objects of a kind in columns: filtered, sorted and paged by the service, as of the end of the window. */
export default function InventoryPage() {
  const { search, change } = useAddress();
  const kind = search.kind ?? "vm";
  const where = parts(search.where, ";");
  const [text, setText] = useState(search.q ?? "");
  const typed = useDeferredValue(text);
  useEffect(() => {
    if ((search.q ?? "") !== typed) change({ q: typed || undefined }, true);
  }, [typed, search.q, change]);
  const params = { kind, where, q: search.q, sort: search.sort, at: search.to, limit: String(pageSize) };
  const query = useInfiniteQuery({
    queryKey: ["inventory", params],
    queryFn: ({ pageParam, signal }) => ask<Inventory>("/inventory", { ...params, cursor: pageParam }, { signal }),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
    placeholderData: (old, q) =>
      (q?.queryKey[1] as typeof params | undefined)?.kind === kind ? keepPreviousData(old) : undefined,
  });
  const first = query.data?.pages[0];
  return (
    <div className="px-6 pb-10 pt-5">
      <Kinds kind={kind} onKind={(k) => change({ kind: k, where: undefined, sort: undefined, q: undefined })} />
      <div className="mt-4 flex flex-wrap items-center gap-2.5">
        <input
          type="search"
          value={text}
          onChange={(e) => setText(e.target.value)}
          aria-label="Part of a name or identifier"
          placeholder="Part of a name or identifier"
          className="h-[27px] w-[230px] rounded-md border border-line bg-card px-2.5 text-[12px] placeholder:text-quiet"
        />
        {where.map((w) => (
          <span
            key={w}
            className="inline-flex h-[27px] items-center gap-1.5 rounded-md bg-well pl-2.5 pr-1.5 text-[12px]"
          >
            {conditionWords(w, first?.columns)}
            <button
              type="button"
              aria-label={`Take out ${w}`}
              onClick={() => change({ where: toggled(search.where, w, ";") })}
              className="cursor-pointer text-quiet hover:text-ink"
            >
              <X size={12} />
            </button>
          </span>
        ))}
        {first && <Adder columns={first.columns} onAdd={(w) => change({ where: toggled(search.where, w, ";") })} />}
        <span aria-live="polite" className="ml-auto text-[12px] text-quiet">
          {first ? sum(first) : ""}
        </span>
        {first && <Take params={params} />}
      </div>
      {query.error && !first ? (
        <Failure error={query.error} />
      ) : !first ? (
        <Skeleton rows={10} />
      ) : first.total === 0 ? (
        <p className="mt-10 max-w-[520px] text-quiet">
          {first.all === 0
            ? `No source lists ${first.label}.`
            : `None of ${count(first.all, "object", first.label)} answers. Take out a condition, or shorten the text.`}
        </p>
      ) : (
        <Table
          inventory={{ ...first, rows: query.data?.pages.flatMap((p) => p.rows) ?? [] }}
          sort={search.sort}
          onSort={(s) => change({ sort: s }, true)}
          onEnd={() => query.hasNextPage && !query.isFetchingNextPage && void query.fetchNextPage()}
        />
      )}
    </div>
  );
}

const sum = (i: Inventory) =>
  i.total === i.all
    ? count(i.all, "object", i.label)
    : `${i.total.toLocaleString("en-GB")} of ${count(i.all, "object", i.label)}`;

function Kinds({ kind, onKind }: { kind: string; onKind: (kind: string) => void }) {
  return (
    <div className="flex flex-wrap gap-x-6 gap-y-2">
      {kinds.map((l) => (
        // biome-ignore lint/a11y/useSemanticElements: a legend cannot stand on one line with what it names
        <div key={l.layer} role="group" aria-label={l.layer} className="flex items-baseline gap-x-2.5">
          <span className="text-[11px] text-quiet">{l.layer}</span>
          {l.kinds.map(([k, words]) => (
            <button
              key={k}
              type="button"
              aria-pressed={k === kind}
              onClick={() => onKind(k)}
              className="cursor-pointer border-b-2 border-transparent text-[12.5px] text-quiet hover:text-ink aria-pressed:border-ink aria-pressed:font-semibold aria-pressed:text-ink"
            >
              {words}
            </button>
          ))}
        </div>
      ))}
    </div>
  );
}

function conditionWords(text: string, columns: Column[] | undefined): string {
  const m = /^([a-z_]+)(!=|>=|<=|=|>|<|~)(.*)$/.exec(text);
  const column = columns?.find((c) => c.name === m?.[1]);
  if (!m || !column) return text;
  const words = operators(column).find(([op]) => op === m[2])?.[1] ?? m[2];
  return `${column.head} ${words} ${m[3] || "not known"}`;
}

/** Builds one condition: a column, how to compare, and with what. */
function Adder({ columns, onAdd }: { columns: Column[]; onAdd: (condition: string) => void }) {
  const [open, setOpen] = useState(false);
  const [name, setName] = useState(columns[1]?.name ?? "name");
  const [op, setOp] = useState("=");
  const [value, setValue] = useState("");
  const column = columns.find((c) => c.name === name) ?? columns[0];
  const field = "h-[27px] rounded-md border border-line bg-card px-1.5 text-[12px]";
  if (!open || !column) return <Button onClick={() => setOpen(true)}>Add a condition</Button>;
  const ops = operators(column);
  const chosen = ops.some(([o]) => o === op) ? op : "=";
  return (
    <form
      className="flex items-center gap-1.5"
      onSubmit={(e) => {
        e.preventDefault();
        onAdd(`${column.name}${chosen}${value.trim()}`);
        setOpen(false);
        setValue("");
      }}
    >
      <select aria-label="Column" value={name} onChange={(e) => setName(e.target.value)} className={field}>
        {columns.map((c) => (
          <option key={c.name} value={c.name}>
            {c.head}
          </option>
        ))}
      </select>
      <select aria-label="Comparison" value={chosen} onChange={(e) => setOp(e.target.value)} className={field}>
        {ops.map(([o, words]) => (
          <option key={o} value={o}>
            {words}
          </option>
        ))}
      </select>
      <input
        // biome-ignore lint/a11y/noAutofocus: the form opens to be filled in
        autoFocus
        aria-label="Value"
        value={value}
        onChange={(e) => setValue(e.target.value)}
        placeholder={
          column.type === "bytes" ? "500GiB" : column.type === "share" ? "80%" : column.type === "text" ? "" : "0"
        }
        className={`${field} w-[110px]`}
      />
      <Button type="submit">Add</Button>
      <button
        type="button"
        aria-label="No condition"
        onClick={() => setOpen(false)}
        className="cursor-pointer text-quiet"
      >
        <X size={14} />
      </button>
    </form>
  );
}

/** Takes all rows that answer away, not only those that were scrolled to. */
function Take({ params }: { params: Record<string, string | string[] | undefined> }) {
  const all = async () => {
    let [cursor, whole]: [string, Inventory | undefined] = ["", undefined];
    do {
      const page: Inventory = await ask<Inventory>("/inventory", { ...params, limit: "5000", cursor });
      whole = whole ? { ...page, rows: [...whole.rows, ...page.rows] } : page;
      cursor = page.next ?? "";
    } while (cursor);
    return whole;
  };
  return (
    <ExportMenu
      name={String(params.kind)}
      all={async () => rows((await all()) as Inventory)}
      json={async () => await all()}
    />
  );
}

/** How much room a column wants: as many characters as its cells mostly have. */
function reach(inventory: Inventory, k: number): number {
  const c = inventory.columns[k];
  if (!c) return 1;
  const longest = inventory.rows
    .slice(0, 300)
    .reduce((n, r) => Math.max(n, cell(c, r.cells[k]).length), c.head.length + 2);
  return Math.min(longest, 22) + 3;
}

function Table({
  inventory,
  sort,
  onSort,
  onEnd,
}: {
  inventory: Inventory;
  sort: string | undefined;
  onSort: (sort: string | undefined) => void;
  onEnd: () => void;
}) {
  const shown = telling(inventory);
  const top = useRef<HTMLDivElement>(null);
  const virtual = useWindowVirtualizer({
    count: inventory.rows.length,
    estimateSize: () => rowHeight,
    overscan: 12,
    scrollMargin: top.current?.offsetTop ?? 0,
  });
  const items = virtual.getVirtualItems();
  const last = items.at(-1)?.index ?? 0;
  useEffect(() => {
    if (last >= inventory.rows.length - 20) onEnd();
  }, [last, inventory.rows.length, onEnd]);
  const widths = shown.map((k) => `minmax(0, ${reach(inventory, k)}fr)`).join(" ");
  const hardware = inventory.kind === "array" || inventory.kind === "host" || inventory.kind === "switch";
  return (
    // biome-ignore lint/a11y/useSemanticElements: rows are placed by themselves, which a table does not allow
    <div
      role="table"
      aria-label={inventory.label}
      aria-rowcount={inventory.total}
      className="mt-4 overflow-x-auto text-[12px]"
    >
      {/* biome-ignore lint/a11y/useSemanticElements: as above */}
      <div
        role="row"
        tabIndex={-1}
        className="grid gap-x-5 border-b border-line pb-1.5"
        style={{ gridTemplateColumns: widths }}
      >
        {shown.map((k) => {
          const c = inventory.columns[k];
          if (!c) return null;
          const state = sort === c.name ? "ascending" : sort === `-${c.name}` ? "descending" : undefined;
          return (
            // biome-ignore lint/a11y/useSemanticElements: as above
            // biome-ignore lint/a11y/useFocusableInteractive: the button inside is focusable
            <div key={c.name} role="columnheader" aria-sort={state} className={c.type === "text" ? "" : "text-right"}>
              <Hint text={c.doc} side="bottom">
                <button
                  type="button"
                  onClick={() =>
                    onSort(state === "ascending" ? `-${c.name}` : state === "descending" ? undefined : c.name)
                  }
                  className={`inline-flex cursor-pointer items-center gap-1 whitespace-nowrap hover:text-ink ${state ? "font-medium text-ink" : "text-quiet"}`}
                >
                  {c.head}
                  {state === "ascending" && <ArrowUp size={11} />}
                  {state === "descending" && <ArrowDown size={11} />}
                </button>
              </Hint>
            </div>
          );
        })}
      </div>
      <div ref={top} className="relative" style={{ height: virtual.getTotalSize() }}>
        {items.map((item) => {
          const row = inventory.rows[item.index];
          if (!row) return null;
          return (
            // biome-ignore lint/a11y/useSemanticElements: as above
            // biome-ignore lint/a11y/useFocusableInteractive: the link inside is focusable
            <div
              key={row.ref}
              role="row"
              aria-rowindex={item.index + 1}
              className="absolute inset-x-0 grid items-center gap-x-5 border-b border-line hover:bg-well"
              style={{
                gridTemplateColumns: widths,
                height: rowHeight,
                transform: `translateY(${item.start - virtual.options.scrollMargin}px)`,
              }}
            >
              {shown.map((k) => {
                const c = inventory.columns[k];
                if (!c) return null;
                const words = cell(c, row.cells[k]);
                return (
                  // biome-ignore lint/a11y/useSemanticElements: as above
                  <div
                    key={c.name}
                    role="cell"
                    title={words}
                    className={`truncate ${c.type === "text" ? "" : "text-right tabular-nums"} ${words === "–" ? "text-quiet" : ""}`}
                  >
                    {k === 0 ? (
                      <span className="flex min-w-0 items-baseline gap-2.5">
                        <PageLink plain page="section" of={row.ref} className="truncate font-medium hover:underline">
                          {words}
                        </PageLink>
                        {hardware && (
                          <PageLink
                            plain
                            page="hardware"
                            of={row.ref}
                            className="text-[11px] text-quiet hover:text-ink"
                          >
                            parts
                          </PageLink>
                        )}
                      </span>
                    ) : (
                      words
                    )}
                  </div>
                );
              })}
            </div>
          );
        })}
      </div>
    </div>
  );
}
