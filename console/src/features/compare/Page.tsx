import { Link, useNavigate, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { BeforeAfter } from "../../shared/BeforeAfter";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Time } from "../../ui/Time";
import { Title } from "../../ui/Title";
import { flagsOf, lookAt, quoted } from "../look/model";
import { useSight } from "../look/queries";
import { Chooser } from "./Chooser";
import { Folders } from "./Folders";
import { compareAt, differences, isAsked, sidesOf, type Side } from "./model";

/** What was looked at, and when. */
function Of({ sight, side }: { sight: Schemas["Sight"]; side: Side }) {
  return (
    <p className="text-sm text-muted">
      {sight.kind} on {sight.origin.host},{" "}
      {sight.origin.live ? (
        "now"
      ) : (
        <>
          as of <Time at={sight.origin.at} />
        </>
      )}{" "}
      · <Link to={lookAt(side)}>look at it</Link>
    </p>
  );
}

/** Both sides, what of them differs, and what is in them where they are folders. */
function Both({ a, b }: { a: Side; b: Side }) {
  const [left, right] = [useSight(a, a.path), useSight(b, b.path)];
  const error = left.error ?? right.error;
  if (error) return <Note error={error} />;
  if (!left.data || !right.data) return <p className="text-muted">Looking…</p>;
  const differs = differences(left.data, right.data);
  return (
    <>
      <p role="status" className="mt-4 font-semibold">
        {differs.length === 0 ? "They are alike, and so is the way there." : `They differ: ${differs.join(", ")}.`}
      </p>
      <div className="mt-2 mb-1 grid gap-4 sm:grid-cols-2">
        <Of sight={left.data} side={a} />
        <Of sight={right.data} side={b} />
      </div>
      {left.data.access && right.data.access ? (
        <BeforeAfter before={left.data.access} after={right.data.access} names={["this", "the other"]} />
      ) : (
        <Note>{left.data.gap ?? right.data.gap ?? "One of them has no permissions to compare."}</Note>
      )}
      {left.data.kind === "folder" && right.data.kind === "folder" ? (
        <Folders key={a.path + b.path} a={a} b={b} />
      ) : null}
      <Command text={`idletally path show ${flagsOf(a)} ${quoted(a.path)}`} />
    </>
  );
}

/** Two hosts, two paths or two times beside each other. */
export default function Compare() {
  const [search] = useSearchParams();
  const navigate = useNavigate();
  const [a, b] = sidesOf(search);
  const go = (x: Side, y: Side) => void navigate(compareAt(x, y), { replace: true });
  return (
    <>
      <Title text="Compare" does="See how two hosts, two paths or two times differ, and what is in one alone." />
      <div className="grid items-end gap-4 sm:grid-cols-[minmax(0,1fr)_auto_minmax(0,1fr)]">
        <Chooser key={`a ${a.path}`} name="This" side={a} choose={(s) => go(s, b.path ? b : { ...b, path: s.path })} />
        <Button onClick={() => go(b, a)} aria-label="Change sides">
          ⇄
        </Button>
        <Chooser key={`b ${b.path}`} name="The other" side={b} choose={(s) => go(a, s)} />
      </div>
      {isAsked(a) && isAsked(b) ? <Both a={a} b={b} /> : <Note>Say where both are, and which path.</Note>}
    </>
  );
}
