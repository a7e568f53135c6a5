/** A table of a connected database, looked into: its columns and a few of its rows. */
import { LakeError } from '../../core/errors';
import { TRUE } from '../../core/scan/predicate';
import { typeName } from '../../core/schema/type-names';
import type { FileLook } from '../lake/look';
import { sourcePlace, type OpenStorage } from '../lake/lake';
import { DatabaseStore } from './database-store';

const FIRST_ROWS = 50;

export async function lookAtSource({ store, storage }: OpenStorage, path: string): Promise<FileLook> {
  if (!(store instanceof DatabaseStore)) throw new LakeError('bad-request', `${storage.name} is no database.`);
  const place = sourcePlace(path);
  const [object, columns] = await Promise.all([store.head(path), store.driver.columns()]);
  const fields = columns.get(path);
  if (!object || !fields) throw new LakeError('not-found', `There is no table or view ${place.schema}.${place.name} in ${storage.name}.`, { path });
  const rows: unknown[][] = [];
  for await (const batch of store.driver.rows({ ...place, fields, predicate: TRUE, limit: FIRST_ROWS })) rows.push(...batch.map((row) => fields.map((field) => row[field.name] ?? null)));
  const estimate = (await store.driver.objects()).find((each) => each.schema === place.schema && each.name === place.name)?.rows ?? null;
  return {
    name: place.name, path, bytes: object.bytes, modified: Date.now(), kind: 'other', read: `a ${object.etag ?? 'table'} of the database${estimate === null ? '' : `, about ${estimate} rows`}`, options: null,
    columns: fields.map((field) => ({ name: field.name, type: typeName(field.type) })), notes: [], rows, rowCount: null, lines: [], parquet: null, members: null, meaning: null, misfits: null, unchecked: null, problem: null,
  };
}
