/** Which Delta tables we may read and write (Delta protocol, "Protocol Evolution", "Table Features", "Valid Feature Names in Table Features"). */
import { LakeError } from '../errors';
import type { Metadata, Protocol } from './actions';

export interface FeatureMeaning {
  /** Feature of readers too, or of writers alone. */
  reader: boolean;
  /** `unused`: only while no column makes use of it. */
  read: 'yes' | 'no' | 'unused';
  /** `unused`: only while the table makes no use of it, since its rules are not carried out here. */
  write: 'yes' | 'no' | 'unused';
  /** One sentence for people. */
  means: string;
}

/** Every feature that the protocol names and that we know of. Others are refused by name. */
export const FEATURES: Readonly<Record<string, FeatureMeaning>> = {
  appendOnly: { reader: false, read: 'yes', write: 'yes', means: 'Rows may be added but not changed or removed while delta.appendOnly is true.' },
  invariants: { reader: false, read: 'yes', write: 'yes', means: 'Conditions on single columns that every new row must meet.' },
  checkConstraints: { reader: false, read: 'yes', write: 'yes', means: 'Named conditions (delta.constraints.…) that every new row must meet.' },
  changeDataFeed: { reader: false, read: 'yes', write: 'yes', means: 'Changed rows are kept beside the data while delta.enableChangeDataFeed is true.' },
  generatedColumns: { reader: false, read: 'yes', write: 'yes', means: 'Columns whose values follow from other columns.' },
  columnMapping: { reader: true, read: 'yes', write: 'yes', means: 'Columns have names and ids of their own in files, so that they can be renamed and dropped without rewriting.' },
  identityColumns: { reader: false, read: 'yes', write: 'unused', means: 'Columns that number rows by themselves.' },
  deletionVectors: { reader: true, read: 'yes', write: 'yes', means: 'Rows are removed by a list of positions beside a file instead of rewriting it.' },
  rowTracking: { reader: false, read: 'yes', write: 'yes', means: 'Every row keeps an id and the version that last changed it.' },
  timestampNtz: { reader: true, read: 'yes', write: 'yes', means: 'Columns of timestamps without time zone.' },
  typeWidening: { reader: true, read: 'yes', write: 'yes', means: 'Column types were widened; older files are read as the wider type.' },
  'typeWidening-preview': { reader: true, read: 'yes', write: 'yes', means: 'As typeWidening, under the name it had before it was final.' },
  domainMetadata: { reader: false, read: 'yes', write: 'yes', means: 'Settings of other programs travel with the table.' },
  v2Checkpoint: { reader: true, read: 'yes', write: 'yes', means: 'Checkpoints may be split into a small file and sidecars.' },
  inCommitTimestamp: { reader: false, read: 'yes', write: 'yes', means: 'Every commit holds its own time, instead of the time of its file.' },
  vacuumProtocolCheck: { reader: true, read: 'yes', write: 'yes', means: 'Whoever clears away unused files must check the protocol first.' },
  clustering: { reader: false, read: 'yes', write: 'yes', means: 'Rows are laid out by chosen columns when the table is compacted.' },
  allowColumnDefaults: { reader: false, read: 'yes', write: 'yes', means: 'Columns may have a value that new rows get when none is given.' },
  checkpointProtection: { reader: false, read: 'yes', write: 'yes', means: 'Old log entries must not be cleared away without care.' },
  icebergCompatV1: { reader: false, read: 'yes', write: 'unused', means: 'Written so that Iceberg readers can read it too (first form).' },
  icebergCompatV2: { reader: false, read: 'yes', write: 'unused', means: 'Written so that Iceberg readers can read it too (second form).' },
  variantType: { reader: true, read: 'unused', write: 'unused', means: 'Columns that hold values of any type.' },
  'variantType-preview': { reader: true, read: 'unused', write: 'unused', means: 'Columns that hold values of any type.' },
  'variantShredding-preview': { reader: true, read: 'unused', write: 'unused', means: 'Columns of any type, split into parts.' },
  catalogManaged: { reader: true, read: 'no', write: 'no', means: 'Commits are arbitrated by a catalog instead of the log folder.' },
};

const LEGACY_WRITER_FEATURES: [version: number, features: string[]][] = [
  [2, ['appendOnly', 'invariants']],
  [3, ['checkConstraints']],
  [4, ['changeDataFeed', 'generatedColumns']],
  [5, ['columnMapping']],
  [6, ['identityColumns']],
];

/** Reader versions 1 and 2 name their features by number; 3 lists them. */
export function readerFeatures(protocol: Protocol): string[] {
  if (protocol.minReaderVersion >= 3) return protocol.readerFeatures ?? [];
  return protocol.minReaderVersion === 2 ? ['columnMapping'] : [];
}

export function writerFeatures(protocol: Protocol): string[] {
  if (protocol.minWriterVersion >= 7) return protocol.writerFeatures ?? [];
  return LEGACY_WRITER_FEATURES.filter(([version]) => version <= protocol.minWriterVersion).flatMap(([, features]) => features);
}

export function hasFeature(protocol: Protocol, feature: string): boolean {
  return writerFeatures(protocol).includes(feature);
}

/** Refuses, by name, what would be read wrong. */
export function checkReadable(table: string, version: number, protocol: Protocol, metadata: Metadata): void {
  if (protocol.minReaderVersion > 3) {
    throw new LakeError('unsupported', `${table}, version ${version}, asks for Delta reader version ${protocol.minReaderVersion}; up to 3 is supported.`, { table, version });
  }
  const inUse = usedFeatures(metadata);
  const unknown = readerFeatures(protocol).filter((feature) => {
    const read = FEATURES[feature]?.read ?? 'no';
    return read === 'no' || (read === 'unused' && inUse.has(feature));
  });
  if (unknown.length > 0) {
    throw new LakeError('unsupported', `${table}, version ${version}, uses the Delta feature ${unknown.join(', ')}, which is not supported for reading.`, { table, version });
  }
}

/** Refuses, by name, what would be written wrong. */
export function checkWritable(table: string, version: number, protocol: Protocol, metadata: Metadata): void {
  checkReadable(table, version, protocol, metadata);
  if (protocol.minWriterVersion > 7) {
    throw new LakeError('unsupported', `${table} asks for Delta writer version ${protocol.minWriterVersion}; up to 7 is supported. Nothing was written.`, { table, version });
  }
  const inUse = usedFeatures(metadata);
  const refused = writerFeatures(protocol).filter((feature) => {
    const write = FEATURES[feature]?.write ?? 'no';
    return write === 'no' || (write === 'unused' && inUse.has(feature));
  });
  if (refused.length > 0) {
    throw new LakeError('unsupported', `${table} uses the Delta feature ${refused.join(', ')}, which is not supported for writing. Nothing was written.`, { table, version });
  }
}

/** Features that the columns and properties make use of, of those that are refused while in use. */
function usedFeatures({ configuration, schemaString }: Metadata): Set<string> {
  const used = new Set<string>();
  if (schemaString.includes('"delta.identity.')) used.add('identityColumns');
  if (/"(?:type|elementType|keyType|valueType)"\s*:\s*"variant"/.test(schemaString)) ['variantType', 'variantType-preview', 'variantShredding-preview'].forEach((feature) => used.add(feature));
  if (configuration['delta.enableIcebergCompatV1'] === 'true') used.add('icebergCompatV1');
  if (configuration['delta.enableIcebergCompatV2'] === 'true') used.add('icebergCompatV2');
  return used;
}

/** Properties that ask for a feature when they have this value, and what else the feature rests on. */
const FEATURE_OF_PROPERTY: [property: string, isOn: (value: string) => boolean, features: string[]][] = [
  ['delta.appendOnly', isTrue, ['appendOnly']],
  ['delta.enableChangeDataFeed', isTrue, ['changeDataFeed']],
  ['delta.enableDeletionVectors', isTrue, ['deletionVectors']],
  ['delta.enableInCommitTimestamps', isTrue, ['inCommitTimestamp']],
  ['delta.enableRowTracking', isTrue, ['rowTracking', 'domainMetadata']],
  ['delta.enableTypeWidening', isTrue, ['typeWidening']],
  ['delta.columnMapping.mode', (value) => value === 'name' || value === 'id', ['columnMapping']],
  ['delta.checkpointPolicy', (value) => value === 'v2', ['v2Checkpoint']],
];

function isTrue(value: string): boolean {
  return value === 'true';
}

/**
 * The protocol that a table needs for these columns and properties, with all that it had before: features are never taken
 * away. Tables that need only what versions count are kept at versions, so that older readers can open them.
 */
export function protocolFor(metadata: Pick<Metadata, 'configuration' | 'schemaString'>, before?: Protocol): Protocol {
  const wanted = new Set<string>(before ? [] : ['appendOnly', 'invariants']);
  for (const [property, isOn, features] of FEATURE_OF_PROPERTY) if (isOn(metadata.configuration[property] ?? '')) features.forEach((each) => wanted.add(each));
  if (Object.keys(metadata.configuration).some((key) => key.startsWith('delta.constraints.'))) wanted.add('checkConstraints');
  if (metadata.schemaString.includes('"timestamp_ntz"')) wanted.add('timestampNtz');
  if (metadata.schemaString.includes('"delta.generationExpression"')) wanted.add('generatedColumns');
  if (metadata.schemaString.includes('"CURRENT_DEFAULT"')) wanted.add('allowColumnDefaults');
  const had = new Set(before ? writerFeatures(before) : []);
  const missing = [...wanted].filter((feature) => !had.has(feature));
  if (before && missing.length === 0) return before;
  const writers = [...new Set([...had, ...wanted])];
  const legacy = LEGACY_WRITER_FEATURES.find(([version]) => writers.every((feature) => LEGACY_WRITER_FEATURES.some(([each, features]) => each <= version && features.includes(feature))));
  if (legacy && (before?.minWriterVersion ?? 0) < 7 && (before?.minReaderVersion ?? 0) < 3) {
    return { minReaderVersion: writers.includes('columnMapping') && wanted.has('columnMapping') ? 2 : (before?.minReaderVersion ?? 1), minWriterVersion: Math.max(legacy[0], before?.minWriterVersion ?? 2) };
  }
  const readers = [...new Set([...(before ? readerFeatures(before) : []), ...writers.filter((feature) => FEATURES[feature]?.reader)])];
  return {
    minReaderVersion: readers.length > 0 ? 3 : (before?.minReaderVersion ?? 1),
    minWriterVersion: 7,
    ...(readers.length > 0 ? { readerFeatures: readers } : {}),
    writerFeatures: writers,
  };
}
