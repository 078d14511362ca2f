import { useNavigate } from "react-router";
import { useOverview } from "../overview/queries";
import { Field } from "../../ui/Field";
import { Select } from "../../ui/Select";

/** Leads to the drift of another application, without a way back first. */
export function OtherApplication({ application }: { application: string }) {
  const all = useOverview().data?.applications ?? [];
  const navigate = useNavigate();
  if (all.length < 2) return null;
  return (
    <Field label="Application" className="ml-auto text-sm">
      <Select value={application} onChange={(e) => void navigate(`/drift/${e.target.value}`)}>
        {all.map((a) => (
          <option key={a.name}>{a.name}</option>
        ))}
      </Select>
    </Field>
  );
}
