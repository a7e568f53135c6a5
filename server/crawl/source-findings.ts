/** What a crawl finds in a connected database: its tables and views, with their columns, compared with what is registered. */
import type { CrawlDefinition, CrawlFolder } from '../../core/crawl/definition';
import { tableName } from '../../core/crawl/names';
import { driftBetween, driftText, isAddition } from '../../core/crawl/drift';
import type { ObjectInfo } from '../../core/storage/object-store';
import type { Field } from '../../core/schema/types';
import { typeName } from '../../core/schema/type-names';
import type { NewFinding } from '../catalog/findings';
import type { Relation } from '../catalog/relations';
import { sourcePlace, type OpenStorage } from '../lake/lake';
import { DatabaseStore } from '../sources/database-store';
import { noEvidence, registerStatement } from './evidence';

/** Objects of the kinds that the crawl takes. */
export function wantedObjects(objects: readonly ObjectInfo[], { kinds }: CrawlFolder): ObjectInfo[] {
  return kinds === undefined || kinds.length === 0 ? [...objects] : objects.filter((object) => kinds.includes(object.etag ?? ''));
}

export async function sourceFindings({ storage, store }: OpenStorage, objects: readonly ObjectInfo[], definition: CrawlDefinition, relations: readonly Relation[]): Promise<NewFinding[]> {
  if (!(store instanceof DatabaseStore)) return [];
  const columns = await store.driver.columns();
  const estimates = new Map((await store.driver.objects()).map((object) => [`${object.schema}/${object.name}`, object]));
  return objects.map((object) => {
    const relation = relations.find((each) => each.storage === storage.name && each.location === object.path);
    const fields = columns.get(object.path) ?? [];
    return finding({ storage, store }, object, fields, estimates.get(object.path)?.rows ?? null, definition, relation);
  });
}

function finding({ storage }: OpenStorage, object: ObjectInfo, fields: Field[], rows: number | null, { namespace, prefix, naming }: CrawlDefinition, relation: Relation | undefined): NewFinding {
  const place = sourcePlace(object.path);
  const before = relation?.definition.kind === 'source' ? relation.definition.fields : undefined;
  const drifts = before ? driftBetween(before, fields) : [];
  const name = relation
    ? { namespace: relation.namespace, name: relation.name }
    : { namespace: namespace || tableName(storage.name), name: `${prefix}${naming === 'path' || place.schema !== 'public' ? `${tableName(place.schema)}_` : ''}${tableName(place.name)}` };
  const status = !relation ? 'new' : drifts.length > 0 ? 'changed' : 'unchanged';
  return {
    storageId: storage.id, location: object.path, place: object.path, digest: '', ...name, status, relationId: relation?.id ?? null, format: 'postgres', files: 1, bytes: object.bytes, rows,
    decision: status === 'unchanged' ? 'registered' : status === 'new' || isAddition(drifts) ? 'register' : 'undecided',
    summary: drifts.length > 0 ? driftText(drifts) : `${object.etag ?? 'table'} ${place.schema}.${place.name}, ${fields.length} columns`,
    definition: { kind: 'source', place, fields },
    evidence: {
      ...noEvidence(1), read: `${storage.name}, ${object.etag ?? 'table'} ${place.schema}.${place.name}: read where it is, with conditions and columns asked of the database`, rowsAreEstimated: true,
      columns: fields.map((field) => ({ name: field.name, type: typeName(field.type), presence: [], clash: false, fromPath: false, isNew: false })),
      statement: registerStatement([name.namespace, name.name], fields, { format: 'postgres', location: `${storage.name}:${place.schema}.${place.name}` }),
    },
  };
}
