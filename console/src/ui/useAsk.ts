import { keepPreviousData, useQuery } from "@tanstack/react-query";
import type { Search } from "../model/search";
import { ask } from "../model/service";
import { moving } from "../model/window";

/** Asks one thing of one object over the address bar's window; again every half minute where it moves. */
export function useAsk<T>(path: string, search: Search, enabled = true) {
  const { of, from, to } = search;
  return useQuery({
    queryKey: [path, of, from, to],
    queryFn: ({ signal }) => ask<T>(path, { of, from, to }, { signal }),
    enabled: enabled && !!of,
    refetchInterval: moving(search) ? 30_000 : false,
    placeholderData: (old, query) => (query?.queryKey[1] === of ? keepPreviousData(old) : undefined),
  });
}
