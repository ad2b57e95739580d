import type { ReactNode } from "react";
import { Empty, Failure, Skeleton } from "../ui/States";

interface Props<T> {
  of: string | undefined; // the object asked about
  query: { data: T | undefined; error: unknown };
  empty: { title: string; words: ReactNode }; // where no object is chosen yet
  rows?: number;
  children: (answer: T) => ReactNode;
}

/** What a page shows of a question: what to do first, that it loads, what failed, or the answer. */
export function Answer<T>({ of, query, empty, rows, children }: Props<T>) {
  const { data, error } = query;
  if (of && data) return children(data);
  return (
    <div className="px-6">
      {!of ? (
        <Empty title={empty.title}>{empty.words}</Empty>
      ) : error ? (
        <Failure error={error} />
      ) : (
        <Skeleton rows={rows} />
      )}
    </div>
  );
}

/** The key that finds. */
export function FindKey() {
  return <kbd className="rounded border border-line px-1.5">/</kbd>;
}
