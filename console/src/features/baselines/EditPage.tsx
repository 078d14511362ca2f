import type { CompletionContext } from "@codemirror/autocomplete";
import { useCallback, useMemo, useState } from "react";
import { Link, useLocation, useNavigate, useParams, useSearchParams } from "react-router";
import { listing, useCheck, useEdition, useEditions, useNames, usePreview, useSchema, useUpload } from "./queries";
import { useSnapshotsOf } from "../snapshots/queries";
import type { Person, Schemas } from "../../api/client";
import { may, maySomewhere } from "../../shared/roles";
import { Button } from "../../ui/Button";
import { Command } from "../../ui/Command";
import { Note } from "../../ui/Note";
import { Title } from "../../ui/Title";
import { useSettled } from "../../ui/useSettled";
import { complete, remarksOf, withRules, type Remark } from "./model";
import { Derive } from "./Derive";
import { Editor } from "./Editor";
import { Effect } from "./Effect";

const skeleton = (name: string) => `idletally: 1
application: ${name}
title:
hosts: {tags: []}
roots: []
rules:
  - rule: everything
    paths: /**
`;

/** What is wrong, in words, and whether the text can be kept. */
function Remarks({ remarks, checked }: { remarks: readonly Remark[]; checked: Schemas["Checked"] }) {
  return (
    <section aria-label="What the check says" className="mb-5">
      <p className={remarks.length ? "mb-1" : ""} role="status">
        {checked.ok ? (
          `A sound baseline of ${checked.application}: ${checked.rules} rules; ${checked.hosts?.length ? `applies to ${checked.hosts.join(", ")}` : "applies to no host yet"}.`
        ) : (
          <strong>It has errors, and cannot be kept like this.</strong>
        )}
      </p>
      <ul className="max-h-60 overflow-y-auto text-sm" tabIndex={remarks.length ? 0 : -1} aria-label="Remarks">
        {remarks.map((r) => (
          <li key={`${r.line}:${r.column}:${r.text}`} className="border-t border-line py-1">
            <span className="text-muted">line {r.line}</span> {r.grave ? <strong>error: </strong> : "warning: "}
            {r.text}
          </li>
        ))}
      </ul>
    </section>
  );
}

function Drafting({
  application,
  start,
  newest,
  rules,
  me,
}: {
  application: string;
  start: string;
  newest: number;
  rules: string; // that somebody brings along, to be put behind the others
  me: Person;
}) {
  const kept = `draft of ${application}`;
  const [text, setText] = useState(() => withRules(sessionStorage.getItem(kept) ?? start, rules));
  // The newest edition when this was begun: a draft that somebody else keeps meanwhile is not passed over.
  const [after, setAfter] = useState(() => Number(sessionStorage.getItem(`${kept}, after`) ?? newest));
  const [deriving, setDeriving] = useState(false);
  const settled = useSettled(text, 400);
  const check = useCheck(settled);
  const author = application === "new" ? maySomewhere(me, "author") : may(me, "author", application);
  const current = check.data && !check.isPlaceholderData;
  const preview = usePreview(settled, author && !check.isPlaceholderData && (check.data?.ok ?? false));
  const upload = useUpload();
  const navigate = useNavigate();
  const name = check.data?.application ?? (application === "new" ? "" : application);
  const snapshots = useSnapshotsOf({ application: name }, 50);
  const snapshot = snapshots.data?.items?.find((s) => s.state === "ready")?.id ?? "";
  const names = useNames(snapshot);
  const schema = useSchema();
  const change = useCallback(
    (next: string) => {
      setText(next);
      sessionStorage.setItem(kept, next); // a reload loses nothing
      sessionStorage.setItem(`${kept}, after`, String(after));
    },
    [kept, after],
  );
  const completed = useCallback(
    (c: CompletionContext) =>
      complete(c, {
        ...(schema.data ? { schema: schema.data } : {}),
        accounts: names.data?.accounts ?? [],
        groups: names.data?.groups ?? [],
        names: async (folder) => {
          if (!snapshot) return [];
          // A folder that is not there has no names.
          const found = await listing(snapshot, folder).catch(() => undefined);
          return (found?.items ?? []).map((p) => ({
            name: p.path.slice(p.path.lastIndexOf("/") + 1),
            folder: p.kind === "folder",
          }));
        },
      }),
    [schema.data, names.data, snapshot],
  );
  const remarks = useMemo(() => remarksOf(check.data), [check.data]);
  const forget = () => [kept, `${kept}, after`].forEach((key) => sessionStorage.removeItem(key));
  const keep = (now: number) =>
    upload.mutate(
      { text, after: now },
      {
        onSuccess: (e) => {
          forget();
          void navigate(`/baselines/${e.application}`);
        },
      },
    );
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-x-6 gap-y-2">
        <Title
          text={application === "new" ? "A new baseline" : `Baseline of ${application}`}
          does="Write what is to be declared, and see what it would find before anybody publishes it."
          className=""
        />
        {application === "new" ? null : <Link to={`/baselines/${application}`}>editions</Link>}
        {author ? (
          <div className="ml-auto flex flex-wrap gap-2">
            <Button onClick={() => setDeriving(true)}>From hosts that are right…</Button>
            {text !== start ? (
              <Button
                onClick={() => {
                  forget();
                  setText(start);
                  setAfter(newest);
                }}
              >
                Take changes back
              </Button>
            ) : null}
            <Button
              look="strong"
              disabled={!current || !check.data?.ok || upload.isPending || settled !== text}
              onClick={() => keep(after)}
            >
              Keep as a draft
            </Button>
          </div>
        ) : null}
      </div>
      {deriving ? (
        <Derive application={application === "new" ? "" : application} take={change} close={() => setDeriving(false)} />
      ) : null}
      <Note error={check.error ?? upload.error ?? schema.error} />
      {author && newest > after && !upload.isPending && !upload.isSuccess ? (
        <Note>
          Edition {newest} was kept after this was begun.{" "}
          <Link to={`/baselines/${application}`}>See what it changes</Link>, take over what is right here, and then{" "}
          <Button disabled={!current || !check.data?.ok || settled !== text} onClick={() => keep(newest)}>
            keep mine after it
          </Button>
        </Note>
      ) : null}
      <div className="grid grid-cols-1 gap-6 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
        <div className="h-[75vh]">
          <Editor text={text} change={change} remarks={remarks} complete={completed} />
        </div>
        <div className="lg:max-h-[75vh] lg:overflow-y-auto" tabIndex={0} role="region" aria-label="Check and effect">
          {check.data ? <Remarks remarks={remarks} checked={check.data} /> : null}
          {check.data?.ok ? (
            <section aria-label="Effect on the last snapshots">
              <h2 className="mb-1 font-bold">On the last snapshots</h2>
              <Note error={preview.error} />
              {preview.data ? (
                <Effect effect={preview.data} />
              ) : author ? (
                <p className="text-muted">Comparing …</p>
              ) : (
                <p className="text-muted">Authors see here what the text would change.</p>
              )}
            </section>
          ) : null}
        </div>
      </div>
      <Command text="idletally baseline effect FILE" />
    </>
  );
}

/** Writing a baseline, with its errors in place and its effect beside it. */
export default function BaselineEdit({ me }: { me: Person }) {
  const { application = "" } = useParams();
  const [search] = useSearchParams();
  const brought: unknown = useLocation().state;
  const rules = typeof brought === "object" && brought && "rules" in brought ? String(brought.rules) : "";
  const fresh = application === "new";
  const editions = useEditions(fresh ? "" : application);
  // The newest one at first: another that comes meanwhile does not take the place of what is written here.
  const [first, setFirst] = useState<number>();
  const newest = editions.data?.items?.[0]?.number;
  if (first === undefined && newest !== undefined) setFirst(newest);
  const from = Number(search.get("from") ?? first ?? Number.NaN);
  const edition = useEdition(fresh ? "" : application, Number.isNaN(from) ? undefined : from);
  if (fresh) return <Drafting application="new" start={skeleton("")} newest={0} rules="" me={me} />;
  if (!edition.data) return <Note error={edition.error ?? editions.error} />;
  // Not by the edition's number: keeping makes a newer one, and the desk is to live to see it kept.
  return (
    <Drafting
      key={`${application} ${search.get("from") ?? ""}`}
      application={application}
      start={edition.data.text ?? ""}
      newest={newest ?? edition.data.number}
      rules={rules}
      me={me}
    />
  );
}
