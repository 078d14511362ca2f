import { useState } from "react";
import { useNavigate } from "react-router";
import type { Person } from "../../api/client";
import { may } from "../../shared/roles";
import { Button } from "../../ui/Button";
import { Field } from "../../ui/Field";
import { Note } from "../../ui/Note";
import { Select } from "../../ui/Select";
import { useApplication } from "../change/useApplication";
import { useDraft } from "../plans/queries";

/** Makes changes that are proposed a plan of an application that the host has. */
export function DraftOf({
  paths,
  text,
  host,
  me,
  title,
}: {
  paths: readonly string[];
  text: string;
  host: string;
  me: Person;
  title: string;
}) {
  const [chosen, setChosen] = useState("");
  const { application, mine } = useApplication(host, paths, chosen, me);
  const draft = useDraft();
  const navigate = useNavigate();
  if (!application || !may(me, "author", application) || text === "") return null;
  return (
    <div className="mt-2 flex flex-wrap items-end gap-2">
      {mine.length > 1 ? (
        <Field label="Of the application" className="text-sm">
          <Select value={application} onChange={(e) => setChosen(e.target.value)}>
            {mine.map((a) => (
              <option key={a}>{a}</option>
            ))}
          </Select>
        </Field>
      ) : null}
      <Button
        disabled={draft.isPending}
        onClick={() =>
          draft.mutate(
            { application, hosts: [host], changes: text, title },
            { onSuccess: (p) => void navigate(`/plans/${p.id}`) },
          )
        }
      >
        Draft a plan of it
      </Button>
      <Note error={draft.error} />
    </div>
  );
}
