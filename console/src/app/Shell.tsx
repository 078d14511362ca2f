import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/react";
import { lazy, Suspense, useEffect, useState } from "react";
import { NavLink, Outlet, useLocation } from "react-router";
import { useLive } from "../api/live";
import { useSignOut } from "../features/signin/queries";
import type { Person } from "../api/client";
import { Confirm } from "../shared/Confirm";
import { ErrorBoundary } from "../ui/ErrorBoundary";
import { News } from "./News";

const Palette = lazy(() => import("./Palette").then((m) => ({ default: m.Palette })));

const places = [
  ["/", "Overview"],
  ["/look", "Look"],
  ["/baselines", "Baselines"],
  ["/plans", "Plans"],
  ["/runs", "Runs"],
  ["/snapshots", "Snapshots"],
  ["/history", "History"],
  ["/settings", "Settings"],
  ["/calculate", "Calculate"],
] as const;

const typing = (e: KeyboardEvent) =>
  e.target instanceof HTMLElement &&
  (e.target.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(e.target.tagName));

/** The frame of every page: where one can go, how to find anything, and who is here. */
export function Shell({ me }: { me: Person }) {
  const signOut = useSignOut();
  const place = useLocation().pathname;
  const [finding, setFinding] = useState(false);
  useLive();
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      const combined = (e.ctrlKey || e.metaKey) && !e.altKey && e.key.toLowerCase() === "k";
      if (!combined && !(e.key === "/" && !e.ctrlKey && !e.metaKey && !typing(e))) return;
      e.preventDefault();
      setFinding(true);
    };
    addEventListener("keydown", key);
    return () => removeEventListener("keydown", key);
  }, []);
  return (
    <div className="mx-auto flex min-h-screen max-w-[100rem] flex-col px-4 xl:px-8">
      <Confirm me={me} />
      <a
        href="#main"
        className="sr-only focus:not-sr-only focus:absolute focus:top-2 focus:left-2 focus:bg-sheet focus:px-3 focus:py-2"
      >
        Skip to content
      </a>
      <header className="flex flex-wrap items-center gap-x-6 gap-y-2 border-b-2 border-ink py-3 print:hidden">
        <NavLink to="/" className="flex items-center gap-2 font-serif text-xl font-bold no-underline">
          <img src="/tally.svg" alt="" width="24" height="24" />
          Idle Tally
        </NavLink>
        <nav aria-label="Main" className="order-3 flex w-full flex-wrap gap-1 lg:order-2 lg:w-auto lg:flex-1">
          {places.map(([to, name]) => (
            <NavLink
              key={to}
              to={to}
              end={to === "/"}
              data-name={name}
              className="place inline-grid rounded px-2.5 py-1 no-underline hover:bg-sheet aria-[current=page]:bg-sheet aria-[current=page]:font-semibold"
            >
              {name}
            </NavLink>
          ))}
        </nav>
        <div className="order-2 ml-auto flex gap-2 lg:order-3">
          <button
            type="button"
            onClick={() => setFinding(true)}
            aria-keyshortcuts="Control+K /"
            className="cursor-pointer rounded border border-line px-3 py-1 text-sm hover:border-ink"
          >
            Find <kbd className="ml-1 hidden text-xs text-muted sm:inline">Ctrl K</kbd>
          </button>
          <Menu>
            <MenuButton className="cursor-pointer rounded border border-line px-3 py-1 text-sm hover:border-ink">
              {me.name} ▾
            </MenuButton>
            <MenuItems
              anchor="bottom end"
              className="z-10 mt-1 rounded border border-line bg-sheet p-1 text-sm shadow-lg"
            >
              <div className="px-3 py-1 text-muted">{me.roles?.join(", ")}</div>
              <MenuItem>
                <button
                  type="button"
                  className="w-full cursor-pointer rounded px-3 py-1 text-left data-focus:bg-paper"
                  onClick={() => signOut.mutate(undefined, { onSettled: () => location.assign("/") })}
                >
                  Sign out
                </button>
              </MenuItem>
            </MenuItems>
          </Menu>
        </div>
      </header>
      <News />
      <main id="main" className="flex-1 py-6">
        <ErrorBoundary key={place}>
          <Suspense
            fallback={
              <p role="status" className="text-muted">
                Loading…
              </p>
            }
          >
            <Outlet />
          </Suspense>
        </ErrorBoundary>
      </main>
      {finding ? (
        <Suspense fallback={null}>
          <Palette pages={places} close={() => setFinding(false)} />
        </Suspense>
      ) : null}
    </div>
  );
}
