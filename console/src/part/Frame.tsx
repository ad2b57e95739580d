import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, Outlet, useLocation, useNavigate } from "@tanstack/react-router";
import { Moon, Sun } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { Suspense, useCallback, useEffect, useState } from "react";
import { lasting } from "../model/format";
import type { Search } from "../model/search";
import { ask, ServiceError, send } from "../model/service";
import type { Identity, Overview } from "../model/types";
import { shift, zoom } from "../model/window";
import { useAddress } from "../ui/address";
import { Rod } from "../ui/Glyph";
import { Failure, Skeleton } from "../ui/States";
import { currentTheme, toggleTheme } from "../ui/theme";
import { FindDialog } from "./FindDialog";
import { KeysDialog } from "./KeysDialog";
import { WindowControl } from "./WindowControl";

const pages = [
  { to: "/", label: "Survey" },
  { to: "/incidents", label: "Incidents" },
  { to: "/explain", label: "Explain" },
  { to: "/section", label: "Section" },
  { to: "/strata", label: "Strata" },
  { to: "/suspects", label: "Suspects" },
  { to: "/compare", label: "Compare" },
  { to: "/readings", label: "Readings" },
  { to: "/reach", label: "Reach" },
  { to: "/changes", label: "Changes" },
  { to: "/inventory", label: "Inventory" },
  { to: "/unresolved", label: "Unresolved" },
  { to: "/limits", label: "Limits" },
  { to: "/sources", label: "Sources" },
  { to: "/start", label: "Start" },
];

/** The frame of every page: find, pages, sources, and the keys that work everywhere. */
export function Frame() {
  const [finding, setFinding] = useState(false);
  const [keys, setKeys] = useState(false);
  const who = useQuery({ queryKey: ["who"], queryFn: () => ask<Identity>("/session"), staleTime: 300_000 });
  useKeys(
    useCallback(() => setFinding(true), []),
    useCallback(() => setKeys(true), []),
  );
  const place = useLocation();
  const signedOut = who.error instanceof ServiceError && who.error.status === 401;
  const navigate = useNavigate();
  useEffect(() => {
    if (signedOut)
      void navigate({
        to: "/sign-in",
        search: {},
        state: { back: window.location.pathname + window.location.search },
        replace: true,
      } as never);
  }, [signedOut, navigate]);
  return (
    <div className="min-h-screen">
      <a href="#main" className="sr-only focus:not-sr-only focus:absolute focus:z-50 focus:bg-card focus:p-2">
        Skip to the page
      </a>
      <header className="fixed inset-x-0 top-0 z-30 flex h-11 items-center border-b border-line bg-paper">
        <Link to={"/" as "/"} search={{} as never} className="flex items-center gap-3.5 pl-4 pr-2 w-[170px] shrink-0">
          <Rod />
          <span className="text-[14px] font-semibold">Dowsing Rod</span>
        </Link>
        <button
          type="button"
          onClick={() => setFinding(true)}
          className="flex h-7 w-[360px] min-w-10 cursor-text items-center rounded-md border border-line bg-card px-2.5 text-left text-quiet hover:border-quiet"
        >
          <span className="flex-1 truncate">Find by any name, WWN, NAA, IQN, LUN number</span>
          <kbd className="rounded border border-line px-1.5 font-sans text-[11px]">/</kbd>
        </button>
        <div className="ml-auto flex items-center gap-5 pr-4 pl-4">
          {place.pathname !== "/start" && place.pathname !== "/sources" && <WindowControl />}
          <Sources />
          <ThemeButton />
          {who.data && <Account name={who.data.name} role={who.data.role} onKeys={() => setKeys(true)} />}
        </div>
      </header>
      <nav
        aria-label="Pages"
        className="fixed bottom-0 left-0 top-11 z-20 w-32 border-r border-line bg-paper px-2 py-3 max-[900px]:bottom-auto max-[900px]:right-0 max-[900px]:flex max-[900px]:w-auto max-[900px]:border-b max-[900px]:border-r-0 max-[900px]:py-1"
      >
        {pages.map((p) => (
          <Link
            key={p.to}
            to={p.to as "/"}
            search={((old: Search) => ({ of: old.of, from: old.from, to: old.to })) as never}
            className="block rounded-md px-2.5 py-1.5 text-quiet hover:text-ink aria-[current=page]:bg-well aria-[current=page]:font-semibold aria-[current=page]:text-ink"
            activeOptions={{ exact: true, includeSearch: false }}
          >
            {p.label}
          </Link>
        ))}
      </nav>
      <main id="main" className="pl-32 pt-11 max-[900px]:pl-0 max-[900px]:pt-[84px]">
        {who.error && !signedOut ? (
          <div className="px-6">
            <Failure error={who.error} />
          </div>
        ) : who.data ? (
          <Suspense
            fallback={
              <div className="px-6">
                <Skeleton />
              </div>
            }
          >
            <Outlet />
          </Suspense>
        ) : (
          <div className="px-6">
            <Skeleton />
          </div>
        )}
      </main>
      <FindDialog open={finding} onOpenChange={setFinding} />
      <KeysDialog open={keys} onOpenChange={setKeys} />
    </div>
  );
}

function useKeys(find: () => void, keys: () => void) {
  const { search, change } = useAddress();
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      const at = e.target as HTMLElement;
      if (
        e.metaKey ||
        e.ctrlKey ||
        e.altKey ||
        at.closest('input, textarea, select, [role="dialog"], [role="menu"], [role="radiogroup"]')
      )
        return;
      const act: Record<string, () => void> = {
        "/": find,
        "?": keys,
        arrowleft: () => change(shift(search, -0.25, Date.now())),
        arrowright: () => change(shift(search, 0.25, Date.now())),
        "+": () => change({ to: undefined, ...zoom(search, 0.5, Date.now()) }),
        "-": () => change({ to: undefined, ...zoom(search, 2, Date.now()) }),
      };
      const doIt = act[e.key.toLowerCase()];
      if (doIt) {
        e.preventDefault();
        doIt();
      }
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [search, change, find, keys]);
}

/** How many sources there are, and which is silent. */
function Sources() {
  const { data } = useQuery({ queryKey: ["estate"], queryFn: () => ask<Overview>("/estate"), refetchInterval: 60_000 });
  if (!data) return null;
  const silent = data.sources.filter((s) => s.silent);
  const longest = Math.max(0, ...silent.map((s) => s.age_s));
  return (
    <Link
      to={"/sources" as "/"}
      search={{} as never}
      className="whitespace-nowrap text-[12px] text-quiet hover:text-ink max-[900px]:hidden"
    >
      {data.sources.length} sources
      {silent.length > 0 && (
        <>
          {" · "}
          <span className="border-b border-dashed border-current text-ink">
            {silent.length} silent {lasting(longest)}
          </span>
        </>
      )}
    </Link>
  );
}

function ThemeButton() {
  const [theme, setTheme] = useState(currentTheme);
  const other = theme === "dark" ? "light" : "dark";
  return (
    <button
      type="button"
      aria-label={`Show on a ${other} ground`}
      onClick={() => setTheme(toggleTheme())}
      className="cursor-pointer text-quiet hover:text-ink"
    >
      {theme === "dark" ? <Sun size={15} /> : <Moon size={15} />}
    </button>
  );
}

function Account({ name, role, onKeys }: { name: string; role: string; onKeys: () => void }) {
  const queries = useQueryClient();
  const item = "cursor-pointer rounded px-2.5 py-1.5 outline-none data-[highlighted]:bg-well";
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger className="cursor-pointer text-[12px] text-quiet hover:text-ink">
        {name}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={6}
          className="z-50 min-w-[170px] rounded-md border border-line bg-card p-1 shadow-lg"
        >
          <DropdownMenu.Label className="px-2.5 py-1.5 text-[12px] text-quiet">
            {name}, {role}
          </DropdownMenu.Label>
          <DropdownMenu.Item className={item} onSelect={onKeys}>
            Keys
          </DropdownMenu.Item>
          <DropdownMenu.Item
            className={item}
            onSelect={() => {
              void send("DELETE", "/session").then(() => {
                queries.clear();
                window.location.assign("/sign-in");
              });
            }}
          >
            Sign out
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
