/** Whether a path is a folder, or lies in it. */
export const within = (path: string, folder: string) =>
  path === folder || path.startsWith(folder.endsWith("/") ? folder : `${folder}/`);
