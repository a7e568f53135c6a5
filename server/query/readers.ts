/** Which views read a table or view, directly or by way of others. */
import { listRelations, type Relation } from '../catalog/relations';
import type { Sql } from '../catalog/database';
import type { Statements } from './statements';

const fullName = (relation: { namespace: string; name: string }) => `${relation.namespace}.${relation.name}`;

/** Full names, in the order of the catalog. A view whose text can no longer be parsed reads nothing. */
export async function readersOf(sql: Sql, statements: Statements, relation: Relation): Promise<string[]> {
  return (await viewsByTable(sql, statements))(fullName(relation));
}

/** The same for many tables: every view is parsed once. */
export async function viewsByTable(sql: Sql, statements: Statements): Promise<(name: string) => string[]> {
  const all = await listRelations(sql);
  const byBareName = new Map<string, string[]>();
  for (const each of all) byBareName.set(each.name.toLowerCase(), [...(byBareName.get(each.name.toLowerCase()) ?? []), fullName(each)]);
  const reads = new Map<string, Set<string>>();
  for (const each of all) {
    if (each.definition.kind !== 'view') continue;
    const statement = await statements.read(each.definition.sql).catch(() => undefined);
    const names = (statement?.references ?? []).flatMap(({ name }) => (name.length === 2 ? [name.join('.')] : (byBareName.get(name[0]!.toLowerCase()) ?? [])));
    reads.set(fullName(each), new Set(names.map((name) => name.toLowerCase())));
  }
  return (name) => {
    const found = new Set<string>();
    const look = (wanted: string): void => {
      for (const [view, names] of reads) {
        if (!names.has(wanted.toLowerCase()) || found.has(view)) continue;
        found.add(view);
        look(view);
      }
    };
    look(name);
    return [...reads.keys()].filter((view) => found.has(view));
  };
}
