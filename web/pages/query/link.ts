import type { RouteLocationRaw } from 'vue-router';
import { nameAsSql } from '../../../core/sql/tokens';

/** The query page with this text in its editor. */
export function queryLink(sql: string): RouteLocationRaw {
  return { path: '/query', query: { sql } };
}

export function tableName(namespace: string, table: string): string {
  return `${nameAsSql(namespace)}.${nameAsSql(table)}`;
}
