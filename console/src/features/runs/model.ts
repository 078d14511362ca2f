/** Returns the pattern that matches one path alone: wildcards get a backslash, and a backslash is written twice. */
export const literal = (path: string) => path.replace(/\\\\|[*?[]/g, (c) => (c.length === 2 ? "\\\\\\\\" : `\\\\${c}`));
