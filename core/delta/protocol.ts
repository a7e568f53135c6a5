/** Which Delta tables we may read and write (Delta protocol, "Protocol Evolution" and "Table Features"). */
import { LakeError } from '../errors';
import type { Metadata, Protocol } from './actions';

const READABLE = new Set(['timestampNtz', 'vacuumProtocolCheck']);
const WRITABLE = new Set([...READABLE, 'appendOnly', 'inCommitTimestamp']);

/** Reader versions 1 and 2 name their features by number; 3 lists them. */
function readerFeatures(protocol: Protocol, metadata: Metadata): string[] {
  if (protocol.minReaderVersion >= 3) return protocol.readerFeatures ?? [];
  const mapping = metadata.configuration['delta.columnMapping.mode'] ?? 'none';
  return protocol.minReaderVersion === 2 && mapping !== 'none' ? ['columnMapping'] : [];
}

const LEGACY_WRITER_FEATURES: [version: number, features: string[]][] = [
  [2, ['appendOnly', 'invariants']],
  [3, ['checkConstraints']],
  [4, ['changeDataFeed', 'generatedColumns']],
  [5, ['columnMapping']],
  [6, ['identityColumns']],
];

function writerFeatures(protocol: Protocol): string[] {
  if (protocol.minWriterVersion >= 7) return protocol.writerFeatures ?? [];
  return LEGACY_WRITER_FEATURES.filter(([version]) => version <= protocol.minWriterVersion).flatMap(([, features]) => features);
}

/** Refuses, by name, what would be read wrong. */
export function checkReadable(table: string, version: number, protocol: Protocol, metadata: Metadata): void {
  if (protocol.minReaderVersion > 3) {
    throw new LakeError('unsupported', `${table}, version ${version}, asks for Delta reader version ${protocol.minReaderVersion}; up to 3 is supported.`, { table, version });
  }
  const unknown = readerFeatures(protocol, metadata).filter((feature) => !READABLE.has(feature));
  if (unknown.length > 0) {
    throw new LakeError('unsupported', `${table}, version ${version}, uses the Delta feature ${unknown.join(', ')}, which is not supported for reading.`, { table, version });
  }
}

/** Refuses, by name, what would be written wrong. */
export function checkWritable(table: string, version: number, protocol: Protocol, metadata: Metadata): void {
  checkReadable(table, version, protocol, metadata);
  if (protocol.minWriterVersion > 7) {
    throw new LakeError('unsupported', `${table} asks for Delta writer version ${protocol.minWriterVersion}; up to 7 is supported.`, { table, version });
  }
  const inUse = usedFeatures(metadata);
  const refused = writerFeatures(protocol).filter((feature) => (UNENFORCED.has(feature) ? inUse.has(feature) : !WRITABLE.has(feature)));
  if (refused.length > 0) {
    throw new LakeError('unsupported', `${table} uses the Delta feature ${refused.join(', ')}, which is not supported for writing. Nothing was written.`, { table, version });
  }
}

/** Features whose rules we do not carry out: writing is safe only while the table makes no use of them. */
const UNENFORCED = new Set(['invariants', 'checkConstraints', 'changeDataFeed', 'generatedColumns', 'columnMapping', 'identityColumns']);

function usedFeatures(metadata: Metadata): Set<string> {
  const used = new Set<string>();
  const { configuration, schemaString } = metadata;
  if (schemaString.includes('"delta.invariants"')) used.add('invariants');
  if (schemaString.includes('"delta.generationExpression"')) used.add('generatedColumns');
  if (schemaString.includes('"delta.identity.')) used.add('identityColumns');
  if (configuration['delta.enableChangeDataFeed'] === 'true') used.add('changeDataFeed');
  if ((configuration['delta.columnMapping.mode'] ?? 'none') !== 'none') used.add('columnMapping');
  if (Object.keys(configuration).some((key) => key.startsWith('delta.constraints.'))) used.add('checkConstraints');
  return used;
}
