import type { Person } from "../api/client";

export const roles = ["viewer", "author", "reviewer", "operator", "admin"] as const;

export type Role = (typeof roles)[number];

/** Those that can be had for one application alone. */
export const forOne: readonly Role[] = ["author", "reviewer", "operator"];

/** Whether somebody has a role for an application; without one, for everything. */
export function may(me: Person, role: Role, application?: string): boolean {
  const have = me.roles ?? [];
  return have.includes(role) || (application !== undefined && have.includes(`${role}@${application}`));
}

/** Whether somebody has a role for any application. */
export function maySomewhere(me: Person, role: Role): boolean {
  return may(me, role) || (me.roles ?? []).some((r) => r.startsWith(`${role}@`));
}
