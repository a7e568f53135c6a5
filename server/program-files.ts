import { existsSync } from 'node:fs';
import path from 'node:path';
import { fileURLToPath } from 'node:url';

/** The folder of the checkout: found by walking up to package.json, so that it is the same from sources and from the bundle. */
export const projectRoot = (() => {
  let folder = path.dirname(fileURLToPath(import.meta.url));
  while (!existsSync(path.join(folder, 'package.json'))) {
    const up = path.dirname(folder);
    if (up === folder) throw new Error('package.json was not found above the program.');
    folder = up;
  }
  return folder;
})();

/** A folder of the built program: `dist/server` or `dist/web`. */
export function programFile(part: 'server' | 'web'): string {
  return path.join(projectRoot, 'dist', part);
}

/** Of the environment a child gets what programs need to run at all, and nothing that is a secret. */
export function childEnvironment(own: Record<string, string>): Record<string, string> {
  const kept = ['PATH', 'HOME', 'TMPDIR', 'TEMP', 'TMP', 'SYSTEMROOT', 'LANG', 'LC_ALL', 'LD_LIBRARY_PATH'];
  return { ...Object.fromEntries(kept.flatMap((name) => (process.env[name] === undefined ? [] : [[name, process.env[name]]]))), ...own };
}
