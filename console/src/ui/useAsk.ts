import { keepPreviousData, useQuery } from "@tanstack/react-query";
import type { Search } from "../model/search";
import { ask } from "../model/service";
import { moving } from "../model/window";

/** Asks one thing of one object over the address bar's window; again every half minute where it moves. */
export function useAsk<T>(path: string, search: Search, more: Record<string, string | string[] | undefined> = {}) {
  const { of, from, to } = search;
  return useQuery({
    queryKey: [path, of, from, to, more],
    queryFn: ({ signal }) => ask<T>(path, { of, from, to, ...more }, { signal }),
    enabled: !!of,
    refetchInterval: moving(search) ? 30_000 : false,
    placeholderData: (old, query) => (query?.queryKey[1] === of ? keepPreviousData(old) : undefined),
  });
}
