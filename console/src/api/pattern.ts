/** The pattern that fits one path alone: what stands for others in patterns gets a backslash, and that one is written twice. */
export const literal = (path: string) => path.replace(/\\\\|[*?[]/g, (c) => (c.length === 2 ? "\\\\\\\\" : `\\\\${c}`));
