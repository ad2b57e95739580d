import type { ReactNode } from "react";

/** The head of a page: what it is about, what it says, and where to go on. */
export function Heading({
  title,
  about,
  children,
  statement,
}: {
  title: string;
  about: ReactNode;
  children?: ReactNode;
  statement?: ReactNode;
}) {
  return (
    <div className="px-6 pt-3">
      <div className="flex items-center gap-4">
        <h1 className="flex min-w-0 flex-wrap items-baseline gap-x-3">
          <span className="text-[17px] font-semibold tracking-tight">{title}</span>
          <span className="text-quiet">{about}</span>
        </h1>
        <div className="ml-auto flex shrink-0 items-center gap-2.5">{children}</div>
      </div>
      <div className="mt-1.5 min-h-[24px]">{statement}</div>
    </div>
  );
}
