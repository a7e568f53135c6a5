import { LakeError } from '../errors';

/**
 * A path inside a storage in its normal form: no leading, trailing or doubled slashes.
 * Refuses `.` and `..` steps, backslashes and NUL, so that no path can leave its storage.
 */
export function normalPath(path: string): string {
  if (path.includes('\0') || path.includes('\\')) {
    throw new LakeError('bad-request', `The path "${path.replaceAll('\0', '␀')}" holds a character that paths cannot have.`);
  }
  const steps = path.split('/').filter((step) => step !== '');
  if (steps.some((step) => step === '.' || step === '..')) {
    throw new LakeError('bad-request', `The path "${path}" leaves its storage: "." and ".." are not allowed.`);
  }
  return steps.join('/');
}

export function joinPath(...parts: string[]): string {
  return parts.filter((part) => part !== '').join('/').replace(/\/{2,}/g, '/');
}

/** '' for a path at the root. */
export function parentPath(path: string): string {
  const cut = path.lastIndexOf('/');
  return cut < 0 ? '' : path.slice(0, cut);
}

export function baseName(path: string): string {
  return path.slice(path.lastIndexOf('/') + 1);
}

/** The rest of `path` below `folder`, or undefined when it is elsewhere. */
export function below(folder: string, path: string): string | undefined {
  if (folder === '') return path;
  return path.startsWith(`${folder}/`) ? path.slice(folder.length + 1) : undefined;
}

/** `file:/x`, `file:///x` and `/x` are one place. */
export function normalUri(uri: string): string {
  const local = /^(?:file:)?\/+/.exec(uri);
  return local ? `file:///${uri.slice(local[0].length)}` : uri;
}

/** The path inside a storage of an absolute location, percent-encoded as the storage's URI is or decoded; undefined where it lies outside. */
export function insideStorage(storageUri: string, location: string): string | undefined {
  const [root, wanted] = [normalUri(storageUri), normalUri(location)];
  return below(root, wanted) ?? below(decodedUri(root), wanted);
}

/** As it is where it is no encoded text. */
export function decodedUri(uri: string): string {
  try {
    return decodeURIComponent(uri);
  } catch {
    return uri;
  }
}

/** Files that readers ignore by common practice: a step that starts with `_` or `.`, but not a partition step `_x=…`. */
export function isHidden(relativePath: string): boolean {
  return relativePath.split('/').some((step) => step.startsWith('.') || (step.startsWith('_') && !step.includes('=')));
}
