/** Files of table metadata shown as what they mean: a Delta commit's actions, Iceberg metadata's snapshots, an Avro file's schema. */
import { LakeError } from '../../core/errors';
import { parseJson, stringifyJson } from '../../core/json';
import { avroSchemaOf, readAvro } from '../../core/iceberg/avro';
import type { Action } from '../../core/delta/actions';
import { vectorPath, type VectorDescriptor } from '../../core/delta/deletion-vector';
import { readParquetRows } from '../../core/parquet/read';
import { parseMetadata } from '../../core/iceberg/metadata';
import { baseName, below, joinPath } from '../../core/storage/paths';
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
    if (/(^|\/)_delta_log\/\d{20}\.(?:[\w.-]+\.)?json$/.test(path)) return deltaCommit(toText(await readAll(store, path)), path);
    if (/(^|\/)_delta_log\/(?:\d{20}\.checkpoint|_sidecars\/).*\.parquet$/.test(path)) return await deltaCheckpoint(store, path);
    if (/(^|\/)_delta_log\/_last_checkpoint$/.test(path)) return jsonFacts(toText(await readAll(store, path)), 'Where the last Delta checkpoint is');
    if (/(^|\/)_delta_log\/\d{20}\.crc$/.test(path)) return jsonFacts(toText(await readAll(store, path)), `Delta checksum of version ${Number(baseName(path).slice(0, 20))}`);
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
  const actions = text.split('\n').filter((line) => line.trim() !== '').map((line) => parseJson(line) as Action);
  const { version, words } = deltaName(path);
  return { title: `Delta ${words}, version ${version}: ${actions.length} actions`, facts: [...actions.slice(0, SHOWN).flatMap((action) => deltaFacts(action, rootOfLog(path))), ...more(actions.length)] };
}

/** The table's folder, above its log. */
function rootOfLog(path: string): string {
  return path.replace(/(^|\/)_delta_log\/.*$/, '');
}

function deltaName(path: string): { version: string; words: string } {
  const name = baseName(path);
  const compacted = /^(\d{20})\.(\d{20})\.compacted/.exec(name);
  if (compacted) return { version: `${Number(compacted[1])} to ${Number(compacted[2])}`, words: 'log compaction' };
  return { version: String(Number(name.slice(0, 20))), words: name.includes('.checkpoint.') ? 'checkpoint' : 'commit' };
}

/** A checkpoint's own actions, its sidecars named. */
async function deltaCheckpoint(store: ObjectStore, path: string): Promise<FileMeaning> {
  await readAll(store, path);
  const rows = await readParquetRows(store, path);
  const counts = new Map<string, number>();
  for (const row of rows) for (const [kind, value] of Object.entries(row)) if (value !== null && value !== undefined) counts.set(kind, (counts.get(kind) ?? 0) + 1);
  const sidecars = rows.flatMap((row) => (row.sidecar ? [String((row.sidecar as { path: string }).path)] : []));
  const files = rows.flatMap((row) => (row.add ? [String((row.add as { path: string }).path)] : []));
  const root = rootOfLog(path);
  const isSidecar = path.includes('/_sidecars/');
  return {
    title: isSidecar ? `Part of a Delta checkpoint: ${rows.length} actions` : `Delta checkpoint, version ${deltaName(path).version}: ${rows.length} actions`,
    facts: [
      ...[...counts].map(([kind, count]) => ({ what: kind, text: String(count) })),
      ...sidecars.map((each) => ({ what: 'sidecar', text: each, path: joinPath(root, '_delta_log/_sidecars', each) })),
      ...files.slice(0, SHOWN).map((each) => ({ what: 'holds a file', text: each, path: joinPath(root, decodeURIComponent(each)) })),
      ...more(files.length),
    ],
  };
}

/** `_last_checkpoint` and checksum files are one JSON object. */
function jsonFacts(text: string, title: string): FileMeaning {
  const facts = Object.entries(parseJson(text) as Record<string, unknown>).map(([what, value]) => ({ what, text: typeof value === 'string' ? value : stringifyJson(value).slice(0, 500) }));
  return { title, facts };
}

function deltaFacts(action: Action, root: string): Facts {
  const inTable = (file: string) => (/^[a-z][a-z0-9+.-]*:/i.test(file) ? {} : { path: joinPath(root, decodeURIComponent(file)) });
  const vector = (of: { deletionVector?: VectorDescriptor }): string => (of.deletionVector ? `, ${of.deletionVector.cardinality} rows of it deleted` : '');
  if ('add' in action) return [{ what: action.add.dataChange ? 'adds a file' : 'moves rows to a file', text: `${action.add.path}, ${action.add.size} bytes${vector(action.add)}`, ...inTable(action.add.path) }, ...vectorFacts(action.add, root)];
  if ('remove' in action) return [{ what: 'removes a file', text: `${action.remove.path}${vector(action.remove)}`, ...inTable(action.remove.path) }];
  if ('cdc' in action) return [{ what: 'changed rows', text: `${action.cdc.path}, ${action.cdc.size} bytes`, ...inTable(action.cdc.path) }];
  if ('metaData' in action) {
    const { id, partitionColumns, schemaString, configuration } = action.metaData;
    const properties = Object.entries(configuration ?? {});
    return [
      { what: 'table', text: `${id}${partitionColumns?.length ? `, partitioned by ${partitionColumns.join(', ')}` : ''}` },
      { what: 'columns', text: (JSON.parse(schemaString) as { fields: { name: string }[] }).fields.map((field) => field.name).join(', ') },
      ...(properties.length > 0 ? [{ what: 'properties', text: properties.map(([key, value]) => `${key} = ${value}`).join(', ') }] : []),
    ];
  }
  if ('protocol' in action) {
    const { minReaderVersion, minWriterVersion, writerFeatures } = action.protocol;
    return [{ what: 'protocol', text: `readers ${minReaderVersion}, writers ${minWriterVersion}${writerFeatures ? `, ${writerFeatures.join(', ')}` : ''}` }];
  }
  if ('txn' in action) return [{ what: 'application', text: `${action.txn.appId}, ${action.txn.version}` }];
  if ('domainMetadata' in action) return [{ what: `settings ${action.domainMetadata.domain}`, text: action.domainMetadata.removed ? 'taken away' : action.domainMetadata.configuration }];
  if ('sidecar' in action) return [{ what: 'sidecar', text: action.sidecar.path, path: joinPath(root, '_delta_log/_sidecars', action.sidecar.path) }];
  if ('commitInfo' in action) {
    const { operation, userName, timestamp, operationParameters, operationMetrics } = action.commitInfo;
    const told = (what: string, of: Record<string, unknown> | undefined) => (of && Object.keys(of).length > 0 ? [{ what, text: Object.entries(of).map(([key, value]) => `${key} ${typeof value === 'string' ? value : stringifyJson(value)}`).join(', ') }] : []);
    return [{ what: 'operation', text: [operation, timestamp && new Date(Number(timestamp)).toISOString(), userName && `by ${userName}`].filter(Boolean).join(', ') }, ...told('parameters', operationParameters), ...told('metrics', operationMetrics)];
  }
  if ('checkpointMetadata' in action) return [{ what: 'sums up', text: `the log to version ${action.checkpointMetadata.version}` }];
  return [{ what: Object.keys(action)[0] ?? '', text: '' }];
}

function vectorFacts({ deletionVector }: { deletionVector?: VectorDescriptor }, root: string): Facts {
  const path = deletionVector && vectorPath(deletionVector);
  return path ? [{ what: 'its deleted rows', text: path, path: joinPath(root, path) }] : [];
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
