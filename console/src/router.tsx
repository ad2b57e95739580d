import { createRootRoute, createRoute, createRouter, Outlet } from "@tanstack/react-router";
import { lazy } from "react";
import { SectionPage } from "./page/SectionPage";
import { SignInPage } from "./page/SignInPage";
import { StartPage } from "./page/StartPage";
import { Frame } from "./part/Frame";

const StrataPage = lazy(() => import("./page/StrataPage"));
const SuspectsPage = lazy(() => import("./page/SuspectsPage"));

/** What the address bar holds on every page: the object, the window, the direction of I/O. */
export interface Search {
  of?: string;
  from?: string;
  to?: string;
  dir?: "read" | "write";
}

const text = (v: unknown) => (typeof v === "string" && v.length > 0 && v.length < 700 ? v : undefined);

export function readSearch(raw: Record<string, unknown>): Search {
  const dir = raw.dir === "read" || raw.dir === "write" ? raw.dir : undefined;
  return { of: text(raw.of), from: text(raw.from), to: text(raw.to), dir };
}

const root = createRootRoute({ component: Outlet, validateSearch: readSearch });
const signIn = createRoute({ getParentRoute: () => root, path: "/sign-in", component: SignInPage });
const frame = createRoute({ getParentRoute: () => root, id: "frame", component: Frame });
const page = (path: string, component: () => React.ReactNode) =>
  createRoute({ getParentRoute: () => frame, path, component });

const tree = root.addChildren([
  signIn,
  frame.addChildren([
    page("/", StartPage),
    page("/section", SectionPage),
    page("/strata", () => <StrataPage />),
    page("/suspects", () => <SuspectsPage />),
  ]),
]);

// Addresses are written as plain text, so that they can be read and typed.
export const router = createRouter({
  routeTree: tree,
  parseSearch: (s) => Object.fromEntries(new URLSearchParams(s)),
  stringifySearch: (search) => {
    const query = new URLSearchParams();
    for (const [name, value] of Object.entries(search as Record<string, unknown>))
      if (typeof value === "string" && value) query.set(name, value);
    const s = query.toString().replaceAll("%3A", ":").replaceAll("%40", "@");
    return s ? `?${s}` : "";
  },
  defaultPreload: false,
});

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
