/** Files of table metadata shown as what they mean: a Delta commit's actions, Iceberg metadata's snapshots, an Avro file's schema. */
import { LakeError } from '../../core/errors';
import { parseJson } from '../../core/json';
import { avroSchemaOf, readAvro } from '../../core/iceberg/avro';
import type { Action } from '../../core/delta/actions';
import { parseMetadata } from '../../core/iceberg/metadata';
import { baseName, below, joinPath, parentPath } from '../../core/storage/paths';
import { toText, type ObjectStore } from '../../core/storage/object-store';

export interface FileMeaning {
  title: string;
  /** `path` names another file of the storage. */
  facts: { what: string; text: string; path?: string }[];
}

type Facts = FileMeaning['facts'];

/** Files beyond this size are not read for it. */
const MOST_BYTES = 32e6;
const SHOWN = 200;
const HEAD_BYTES = 1024 * 1024;

/** Null for files that are no metadata, or cannot be read as such. */
export async function meaningOf(store: ObjectStore, path: string): Promise<FileMeaning | null> {
  try {
    if (/(^|\/)_delta_log\/\d{20}\.json$/.test(path)) return deltaCommit(toText(await readAll(store, path)), path);
    if (/(^|\/)metadata\/[^/]+\.metadata\.json$/.test(path)) return icebergMetadata(store, toText(await readAll(store, path)), path);
    if (/(^|\/)metadata\/[^/]+\.avro$/.test(path)) return await manifest(store, path);
    if (path.endsWith('.avro')) return avroSchema(await store.read(path, { start: 0, end: HEAD_BYTES }), path);
    return null;
  } catch (error) {
    // Damaged metadata is shown as the text it is; what reads the table says what is wrong.
    if (error instanceof LakeError || error instanceof TypeError || error instanceof SyntaxError) return null;
    throw error;
  }
}

async function readAll(store: ObjectStore, path: string): Promise<Uint8Array> {
  const info = await store.head(path);
  if (!info || info.bytes > MOST_BYTES) throw new LakeError('limit', `${path} is too large to be looked into.`, { path });
  return store.read(path);
}

function deltaCommit(text: string, path: string): FileMeaning {
  const root = parentPath(parentPath(path));
  const actions = text.split('\n').filter((line) => line.trim() !== '').map((line) => parseJson(line) as Action);
  const facts = actions.slice(0, SHOWN).flatMap((action) => deltaFacts(action, root));
  return { title: `Delta commit, version ${Number(baseName(path).slice(0, 20))}: ${actions.length} actions`, facts: [...facts, ...more(actions.length)] };
}

function deltaFacts(action: Action, root: string): Facts {
  const inTable = (file: string) => joinPath(root, decodeURIComponent(file));
  if ('add' in action) return [{ what: 'adds a file', text: `${action.add.path}, ${action.add.size} bytes`, path: inTable(action.add.path) }];
  if ('remove' in action) return [{ what: 'removes a file', text: action.remove.path, path: inTable(action.remove.path) }];
  if ('metaData' in action) return [{ what: 'table', text: `${action.metaData.id}${action.metaData.partitionColumns?.length ? `, partitioned by ${action.metaData.partitionColumns.join(', ')}` : ''}` }, { what: 'columns', text: (JSON.parse(action.metaData.schemaString) as { fields: { name: string }[] }).fields.map((field) => field.name).join(', ') }];
  if ('protocol' in action) return [{ what: 'protocol', text: `readers ${action.protocol.minReaderVersion}, writers ${action.protocol.minWriterVersion}${[...(action.protocol.readerFeatures ?? []), ...(action.protocol.writerFeatures ?? [])].map((feature) => `, ${feature}`).join('')}` }];
  if ('commitInfo' in action) return [{ what: 'operation', text: [action.commitInfo.operation, action.commitInfo.userName && `by ${action.commitInfo.userName}`, action.commitInfo.timestamp && new Date(Number(action.commitInfo.timestamp)).toISOString()].filter(Boolean).join(', ') }];
  if ('txn' in action) return [{ what: 'transaction', text: `${action.txn.appId}, ${action.txn.version}` }];
  return [];
}

function icebergMetadata(store: ObjectStore, text: string, path: string): FileMeaning {
  const metadata = parseMetadata(text, path);
  const inside = (uri: string) => below(store.uri, uri);
  const schema = metadata.schemas.find((each) => each['schema-id'] === metadata['current-schema-id']);
  const snapshots = metadata.snapshots ?? [];
  const facts: Facts = [
    { what: 'location', text: metadata.location },
    { what: 'columns', text: schema?.fields.map((field) => `${field.id} ${field.name}`).join(', ') ?? '' },
    ...snapshots.slice(-SHOWN).reverse().map((snapshot) => ({
      what: `snapshot ${String(snapshot['sequence-number'] ?? '')}`, text: `${String(snapshot.summary?.operation ?? '')} ${new Date(Number(snapshot['timestamp-ms'])).toISOString()}, id ${String(snapshot['snapshot-id'])}`,
      ...withPath(snapshot['manifest-list'] === undefined ? undefined : inside(snapshot['manifest-list'])),
    })),
  ];
  return { title: `Iceberg metadata, format ${metadata['format-version']}: ${snapshots.length} snapshots`, facts };
}

/** A manifest list names manifests, a manifest names data files. */
async function manifest(store: ObjectStore, path: string): Promise<FileMeaning> {
  const { records, metadata } = await readAvro(await readAll(store, path), path);
  const isList = records.some((record) => 'manifest_path' in record);
  const facts = records.slice(0, SHOWN).map((record) => {
    const file = (isList ? record : record.data_file) as Record<string, unknown>;
    const uri = String(isList ? file.manifest_path : file.file_path);
    const inside = below(store.uri, uri);
    const status = isList ? 'manifest' : (['existing', 'added', 'deleted'][Number(record.status)] ?? 'file');
    return { what: status, text: `${inside ?? uri}${isList ? '' : `, ${String(file.record_count)} rows`}`, ...withPath(inside) };
  });
  return { title: isList ? `Iceberg manifest list: ${records.length} manifests` : `Iceberg manifest of ${metadata.content ?? 'data'}: ${records.length} entries`, facts: [...facts, ...more(records.length)] };
}

function avroSchema(head: Uint8Array, path: string): FileMeaning {
  const schema = avroSchemaOf(head, path);
  return { title: `Avro, record ${schema.name ?? ''}`, facts: (schema.fields ?? []).map((field) => ({ what: field.name, text: JSON.stringify(field.type) })) };
}

function withPath(path: string | undefined): { path?: string } {
  return path === undefined ? {} : { path };
}

function more(count: number): Facts {
  return count > SHOWN ? [{ what: '', text: `and ${count - SHOWN} more` }] : [];
}
