import { useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { ServiceError } from "../model/service";
import { Button, PageLink } from "./Button";

/** What failed and what to try. */
export function Failure({ error }: { error: unknown }) {
  const queries = useQueryClient();
  const e =
    error instanceof ServiceError
      ? error
      : new ServiceError(
          0,
          "",
          "Something went wrong in this page. Reload it; if it stays, tell whoever runs the service.",
        );
  return (
    <div role="alert" className="mt-10 max-w-[640px] border-l-2 border-magenta pl-5">
      <h2 className="text-[15px] font-semibold">{title(e)}</h2>
      <p className="mt-1 text-quiet">{e.message}</p>
      {e.candidates.length > 0 && (
        <ul className="mt-3 space-y-1">
          {e.candidates.map((c) => (
            <li key={c}>
              <PageLink plain page="section" of={c} className="text-water underline underline-offset-2">
                {c}
              </PageLink>
            </li>
          ))}
        </ul>
      )}
      <div className="mt-4">
        <Button onClick={() => void queries.invalidateQueries()}>Try again</Button>
      </div>
    </div>
  );
}

function title(e: ServiceError): string {
  switch (e.kind) {
    case "unreachable":
      return "No answer";
    case "database-unavailable":
      return "The database does not answer";
    case "unknown-object":
      return "No such object";
    case "ambiguous-name":
      return "Which of these?";
    case "bad-window":
      return "That window of time cannot be shown";
  }
  return "That did not work";
}

/** What to do where there is nothing to show. */
export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="mt-16 max-w-[560px]">
      <h2 className="text-[17px] font-semibold">{title}</h2>
      <div className="mt-2 text-quiet leading-relaxed">{children}</div>
    </div>
  );
}

export function Skeleton({ rows = 6 }: { rows?: number }) {
  return (
    <div role="status" aria-label="Loading" className="mt-3 space-y-3">
      <div className="skeleton h-6 w-72" />
      <div className="skeleton h-4 w-[70%]" />
      {Array.from({ length: rows }, (_, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: these rows are all alike
        <div key={i} className="skeleton h-12" />
      ))}
    </div>
  );
}

/** What a page shows until it has its data: why it cannot, or that it is on its way. */
export function Waiting({ error }: { error: unknown }) {
  return <div className="px-6">{error ? <Failure error={error} /> : <Skeleton />}</div>;
}
