import type { RouteLocationRaw } from 'vue-router';

/** The query page with this text in its editor. */
export function queryLink(sql: string): RouteLocationRaw {
  return { path: '/query', query: { sql } };
}

/** A name as SQL reads it, quoted only where it must be. */
export function sqlName(name: string): string {
  return /^[a-z_][a-z0-9_]*$/i.test(name) ? name : `"${name.replaceAll('"', '""')}"`;
}

export function tableName(namespace: string, table: string): string {
  return `${sqlName(namespace)}.${sqlName(table)}`;
}
