import { forOne, roles, type Role } from "../../shared/roles";
import { useOverview } from "../overview/queries";
import { Checkbox } from "../../ui/Checkbox";

const means: Record<Role, string> = {
  viewer: "looks at everything",
  author: "drafts baselines and plans",
  reviewer: "approves plans of others, accepts findings",
  operator: "runs plans, has snapshots taken; everywhere: adds hosts",
  admin: "manages people",
};

/** What somebody may do: each role everywhere, or of some for single applications. */
export function RoleChoice({ chosen, choose }: { chosen: readonly string[]; choose: (roles: string[]) => void }) {
  const known = useOverview().data?.applications?.map((a) => a.name) ?? [];
  const set = (role: string, on: boolean) => choose(on ? [...chosen, role] : chosen.filter((r) => r !== role));
  return (
    <fieldset className="mt-3">
      <legend className="text-sm font-semibold">Roles</legend>
      {roles.map((role) => {
        const everywhere = chosen.includes(role);
        const bound = chosen.filter((r) => r.startsWith(`${role}@`)).map((r) => r.slice(role.length + 1));
        const applications = [...new Set([...bound, ...known])].sort();
        return (
          <div key={role} className="py-1">
            <Checkbox checked={everywhere} onChange={(e) => set(role, e.target.checked)}>
              {role} <span className="text-sm text-muted">{means[role]}</span>
            </Checkbox>
            {forOne.includes(role) && !everywhere && applications.length > 0 ? (
              <details className="ml-6.5 text-sm" open={bound.length > 0}>
                <summary className="cursor-pointer text-muted">
                  only for {bound.length > 0 ? bound.join(", ") : "single applications…"}
                </summary>
                <div className="max-h-40 overflow-auto">
                  {applications.map((a) => (
                    <Checkbox
                      key={a}
                      checked={bound.includes(a)}
                      aria-label={`${role} for ${a}`}
                      onChange={(e) => set(`${role}@${a}`, e.target.checked)}
                      className="mr-4 inline-flex items-center gap-2 py-1"
                    >
                      {a}
                    </Checkbox>
                  ))}
                </div>
              </details>
            ) : null}
          </div>
        );
      })}
    </fieldset>
  );
}
