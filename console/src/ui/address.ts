import { useNavigate, useSearch } from "@tanstack/react-router";
import { useCallback, useEffect, useState } from "react";
import type { Search } from "../model/search";
import { moving, type Span, span } from "../model/window";

/** The address bar's state, and how to change a part of it. */
export function useAddress() {
  const search = useSearch({ strict: false }) as Search;
  const navigate = useNavigate();
  const change = useCallback(
    (part: Partial<Search>, replace = false) => {
      void navigate({ to: ".", search: (old: Search) => ({ ...old, ...part }), replace } as never);
    },
    [navigate],
  );
  const open = useCallback(
    (page: string, of: string) => {
      void navigate({ to: page, search: (old: Search) => ({ from: old.from, to: old.to, of }) } as never);
    },
    [navigate],
  );
  return { search, change, open };
}

/** Now, as of the last half minute where the window moves with the clock. */
export function useNow(search: Search): number {
  const [now, setNow] = useState(() => Date.now());
  const moves = moving(search);
  useEffect(() => {
    if (!moves) return;
    const timer = setInterval(() => setNow(Date.now()), 30_000);
    return () => clearInterval(timer);
  }, [moves]);
  return now;
}

export function useWindow(): Span & { search: Search } {
  const search = useSearch({ strict: false }) as Search;
  const now = useNow(search);
  return { ...span(search, now), search };
}
