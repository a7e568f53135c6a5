/** Names of the protocol (a list of levels) as names of the catalog (levels joined by dots), and pages of names. */
import { badRequest } from './errors';

/** Levels of a namespace in a path or a query are joined by the unit separator. */
const SEPARATOR = '\u001f';
const PAGE_SIZE = 1000;

export function namespaceOfPath(text: string): string {
  return namespaceOf(text.split(SEPARATOR));
}

export function namespaceOf(levels: readonly string[]): string {
  if (levels.length === 0 || levels.some((level) => level === '')) throw badRequest('A namespace needs at least one level, and no level may be empty.');
  const odd = levels.find((level) => level.includes('.'));
  if (odd !== undefined) throw badRequest(`The level "${odd}" of a namespace holds a dot, which separates levels in this catalog.`);
  return levels.join('.');
}

export function levelsOf(namespace: string): string[] {
  return namespace.split('.');
}

/** A page after the token; an empty token asks for the first page. Without either everything comes at once. */
export function pageOf<T>(items: readonly T[], keyOf: (item: T) => string, { pageToken, pageSize }: { pageToken?: string; pageSize?: number }): { page: T[]; next: string | null } {
  if (pageToken === undefined && pageSize === undefined) return { page: [...items], next: null };
  const after = pageToken ? Buffer.from(pageToken, 'base64url').toString('utf8') : undefined;
  const start = after === undefined ? 0 : items.findIndex((item) => keyOf(item) > after);
  const from = start < 0 ? items.length : start;
  const page = items.slice(from, from + (pageSize ?? PAGE_SIZE));
  const last = page.at(-1);
  return { page, next: last !== undefined && from + page.length < items.length ? Buffer.from(keyOf(last)).toString('base64url') : null };
}
