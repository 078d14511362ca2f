import type { ReactNode } from "react";
import { Link } from "react-router";

/** The frame of what needs nobody to be signed in, or of what comes before anything else. */
export function Outside({ children, way = <Link to="/">Sign in</Link> }: { children: ReactNode; way?: ReactNode }) {
  return (
    <div className="mx-auto max-w-6xl px-4">
      <header className="flex items-center justify-between border-b-2 border-ink py-3">
        <span className="flex items-center gap-2 font-serif text-xl font-bold">
          <img src="/tally.svg" alt="" width="24" height="24" />
          Idle Tally
        </span>
        {way}
      </header>
      <main className="py-6">{children}</main>
    </div>
  );
}
