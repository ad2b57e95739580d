import { createRootRoute, createRoute, createRouter, Outlet } from "@tanstack/react-router";
import { lazy } from "react";
import { readSearch, writeSearch } from "./model/search";
import { SectionPage } from "./page/SectionPage";
import { SignInPage } from "./page/SignInPage";
import { StartPage } from "./page/StartPage";
import { Frame } from "./part/Frame";

const SurveyPage = lazy(() => import("./page/SurveyPage"));
const IncidentsPage = lazy(() => import("./page/IncidentsPage"));
const ExplainPage = lazy(() => import("./page/ExplainPage"));
const ComparePage = lazy(() => import("./page/ComparePage"));
const ReadingsPage = lazy(() => import("./page/ReadingsPage"));
const LimitsPage = lazy(() => import("./page/LimitsPage"));
const StrataPage = lazy(() => import("./page/StrataPage"));
const InventoryPage = lazy(() => import("./page/InventoryPage"));
const ReachPage = lazy(() => import("./page/ReachPage"));
const ChangesPage = lazy(() => import("./page/ChangesPage"));
const UnresolvedPage = lazy(() => import("./page/UnresolvedPage"));
const HardwarePage = lazy(() => import("./page/HardwarePage"));
const SourcesPage = lazy(() => import("./page/SourcesPage"));
const SuspectsPage = lazy(() => import("./page/SuspectsPage"));

const root = createRootRoute({ component: Outlet, validateSearch: readSearch });
const signIn = createRoute({ getParentRoute: () => root, path: "/sign-in", component: SignInPage });
const frame = createRoute({ getParentRoute: () => root, id: "frame", component: Frame });
const page = (path: string, component: () => React.ReactNode) =>
  createRoute({ getParentRoute: () => frame, path, component });

const tree = root.addChildren([
  signIn,
  frame.addChildren([
    page("/", () => <SurveyPage />),
    page("/start", StartPage),
    page("/incidents", () => <IncidentsPage />),
    page("/explain", () => <ExplainPage />),
    page("/section", SectionPage),
    page("/strata", () => <StrataPage />),
    page("/suspects", () => <SuspectsPage />),
    page("/compare", () => <ComparePage />),
    page("/readings", () => <ReadingsPage />),
    page("/limits", () => <LimitsPage />),
    page("/reach", () => <ReachPage />),
    page("/inventory", () => <InventoryPage />),
    page("/hardware", () => <HardwarePage />),
    page("/changes", () => <ChangesPage />),
    page("/unresolved", () => <UnresolvedPage />),
    page("/sources", () => <SourcesPage />),
  ]),
]);

// Addresses are written as plain text, so that they can be read and typed.
export const router = createRouter({
  routeTree: tree,
  parseSearch: (s) => Object.fromEntries(new URLSearchParams(s)),
  stringifySearch: (search) => writeSearch(search as Record<string, unknown>),
  defaultPreload: false,
});

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
