import { Link } from "@tanstack/react-router";
import type { ComponentProps } from "react";
import type { Search } from "../model/search";

const look =
  "inline-flex items-center gap-1.5 rounded-md border border-line bg-card px-3 h-[27px] text-[12px] font-medium whitespace-nowrap hover:border-quiet disabled:opacity-50 cursor-pointer";

export function Button(props: ComponentProps<"button">) {
  return <button type="button" {...props} className={`${look} ${props.className ?? ""}`} />;
}

/** A link to a page about an object that keeps the window of time. */
export function PageLink({
  page,
  of,
  plain,
  className,
  children,
  ...rest
}: { page: string; of?: string; plain?: boolean } & Omit<ComponentProps<"a">, "href">) {
  return (
    <Link
      {...rest}
      to={`/${page}` as "/"}
      search={((old: Search) => ({ from: old.from, to: old.to, of: of ?? old.of })) as never}
      className={`${plain ? "" : look} ${className ?? ""}`}
    >
      {children}
    </Link>
  );
}

/** A link to an incident, by its number. */
export function IncidentLink({ no, children, ...rest }: { no: number | string } & Omit<ComponentProps<"a">, "href">) {
  return (
    <Link
      {...rest}
      to={"/incidents" as "/"}
      search={((old: Search) => ({ from: old.from, to: old.to, no: String(no) })) as never}
    >
      {children}
    </Link>
  );
}
