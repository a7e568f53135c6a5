/** Which views read a table or view, directly or by way of others. */
import { mayDo, mayDoEverywhere, PRODUCT, type Identity } from '../access/access';
import { listRelations, type Relation } from '../catalog/relations';
import type { Sql } from '../catalog/database';
import { listSavedQueries } from '../catalog/saved-queries';
import type { Statements } from './statements';

const fullName = (relation: { namespace: string; name: string }) => `${relation.namespace}.${relation.name}`;

export interface Readers {
  /** Directly or by way of others. */
  views: string[];
  /** By their names; those that read it by way of a view too. */
  savedQueries: string[];
  /** Queries of the last 30 days that read it. */
  receipts: { queries: number; people: number; last: string | null };
}

/** Whom a change of the table or view concerns. */
export async function allReadersOf(sql: Sql, statements: Statements, relation: Relation, as: Identity): Promise<Readers> {
  const name = fullName(relation);
  const all = await readersOf(sql, statements, relation, PRODUCT);
  const views = await readersOf(sql, statements, relation, as);
  const known = new Set([name, ...all].map((each) => each.toLowerCase()));
  // Saved queries belong to nobody in particular, so those see them who may read everything.
  const saved = await Promise.all((mayDoEverywhere(as, 'read') ? await listSavedQueries(sql) : []).map(async (each) => {
    const statement = await statements.read(each.sql).catch(() => undefined);
    return statement?.references.some(({ name: names }) => known.has(names.join('.').toLowerCase())) ? [each.name] : [];
  }));
  const [receipts] = await sql.query<Readers['receipts']>(
    `SELECT count(*)::int AS queries, count(DISTINCT who)::int AS people, max(at) AS last FROM receipt WHERE kind = 'query' AND outcome = 'done' AND at > now() - interval '30 days' AND tables @> $1::jsonb`,
    [JSON.stringify([{ name }])],
  );
  return { views, savedQueries: saved.flat(), receipts: receipts! };
}

/** One sentence for each kind of reader; none where nobody reads it. */
export function readerWords({ views, savedQueries, receipts }: Readers): string[] {
  return [
    ...(views.length > 0 ? [`It is read by ${views.join(', ')}.`] : []),
    ...(savedQueries.length > 0 ? [`The saved ${savedQueries.length === 1 ? 'query' : 'queries'} ${savedQueries.map((each) => `"${each}"`).join(', ')} ${savedQueries.length === 1 ? 'reads' : 'read'} it.`] : []),
    ...(receipts.queries > 0 ? [`${receipts.queries === 1 ? 'One query' : `${receipts.queries} queries`} of ${receipts.people === 1 ? 'one person or token' : `${receipts.people} people or tokens`} read it in the last 30 days.`] : []),
  ];
}

/** Full names of those that the asker may see, in the order of the catalog. A view whose text can no longer be parsed reads nothing. */
export async function readersOf(sql: Sql, statements: Statements, relation: Relation, as: Identity): Promise<string[]> {
  const names = (await viewsByTable(sql, statements))(fullName(relation));
  return names.filter((name) => mayDo(as, 'see', { namespace: name.slice(0, name.lastIndexOf('.')), name: name.slice(name.lastIndexOf('.') + 1) }));
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
