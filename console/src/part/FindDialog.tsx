import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useDeferredValue, useEffect, useState } from "react";
import { ask } from "../model/service";
import type { Brief, Found } from "../model/types";
import { useAddress } from "../ui/address";

/** Finds any object by any name or identifier; Enter opens its section. */
export function FindDialog({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  const [text, setText] = useState("");
  const [chosen, setChosen] = useState(0);
  const query = useDeferredValue(text.trim());
  const address = useAddress();
  const found = useQuery({
    queryKey: ["find", query],
    queryFn: ({ signal }) => ask<Found>("/find", { q: query, limit: "12" }, { signal }),
    enabled: open && query.length > 0,
    placeholderData: keepPreviousData,
  });
  useEffect(() => {
    if (!open) setText("");
  }, [open]);
  const list = query ? (found.data?.objects ?? []) : [];
  const at = Math.min(chosen, Math.max(0, list.length - 1));
  const go = (o: Brief | undefined) => {
    if (!o) return;
    onOpenChange(false);
    address.open("/section", o.ref);
  };
  const press = (e: React.KeyboardEvent) => {
    if (e.key === "ArrowDown") setChosen(Math.min(at + 1, list.length - 1));
    else if (e.key === "ArrowUp") setChosen(Math.max(at - 1, 0));
    else if (e.key === "Enter") go(list[at]);
    else return;
    e.preventDefault();
  };
  return (
    <Dialog.Root open={open} onOpenChange={onOpenChange}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/20" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed left-1/2 top-14 z-50 w-[640px] max-w-[94vw] -translate-x-1/2 overflow-hidden rounded-lg border border-line bg-card shadow-xl"
        >
          <Dialog.Title className="sr-only">Find an object</Dialog.Title>
          <input
            value={text}
            onChange={(e) => {
              setText(e.target.value);
              setChosen(0);
            }}
            onKeyDown={press}
            role="combobox"
            aria-label="Name or identifier"
            aria-expanded={list.length > 0}
            aria-controls="found"
            aria-activedescendant={list[at] ? `found-${at}` : undefined}
            placeholder="Name, WWN, NAA, IQN, UUID, serial, LUN number"
            className="w-full bg-transparent px-4 py-3 text-[15px] outline-none placeholder:text-quiet"
          />
          <div
            id="found"
            role="listbox"
            aria-label="Objects found"
            className="max-h-[62vh] overflow-auto border-t border-line"
          >
            {list.map((o, i) => (
              <div
                key={o.ref}
                id={`found-${i}`}
                role="option"
                aria-selected={i === at}
                tabIndex={-1}
                onPointerMove={() => setChosen(i)}
                onClick={() => go(o)}
                onKeyDown={press}
                className={`grid cursor-pointer grid-cols-[1fr_130px_190px] items-baseline gap-3 px-4 py-2 ${i === at ? "bg-well" : ""}`}
              >
                <span className="truncate font-medium">
                  {o.owner && o.kind !== "volume" ? <span className="font-normal text-quiet">{o.owner} / </span> : null}
                  {o.name}
                </span>
                <span className="truncate text-[12px] text-quiet">{o.label}</span>
                <span className="truncate text-right text-[12px] text-quiet">
                  {o.matched === "name" ? o.source : o.matched}
                </span>
              </div>
            ))}
          </div>
          <p aria-live="polite" className="px-4 py-2.5 text-[12px] text-quiet">
            {hint(query, found.data, found.error)}
          </p>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function hint(query: string, found: Found | undefined, error: unknown): string {
  if (error instanceof Error) return error.message;
  if (!query) return "Any notation will do: 50:06:01…, 0x5006…, naa.6…, part of a name, or LUN 14.";
  if (!found) return "Looking…";
  if (found.total === 0) return `Nothing has “${query}” in a name or identifier. Try a part of it.`;
  const more = found.total - found.objects.length;
  if (found.more) return "There are many more: type on to narrow it. ↑ ↓ choose, Enter opens.";
  return more > 0
    ? `${more} more: type on to narrow it. ↑ ↓ choose, Enter opens.`
    : "↑ ↓ choose, Enter opens the section.";
}
