import type { ReactNode } from "react";
import { Link } from "react-router";

/** The frame of what needs nobody to be signed in. */
export function Outside({ children }: { children: ReactNode }) {
  return (
    <div className="mx-auto max-w-6xl px-4">
      <header className="flex items-center justify-between border-b-2 border-ink py-3">
        <span className="flex items-center gap-2 font-serif text-xl font-bold"><img src="/tally.svg" alt="" width="24" height="24" />Idle Tally</span>
        <Link to="/">Sign in</Link>
      </header>
      <main className="py-6">{children}</main>
    </div>
  );
}
