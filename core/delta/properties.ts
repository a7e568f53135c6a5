/** Table properties that the protocol or common practice gives a meaning (Delta protocol, "Table Properties" of each feature). */
import { LakeError } from '../errors';
import type { LogState } from './state';

export interface PropertyMeaning {
  means: string;
  /** What it is when it is not set. */
  standard: string;
  /** How a value is written, for a person who sets it. */
  form: 'true or false' | 'a whole number' | 'an interval, as in interval 30 days' | readonly string[];
}

export const PROPERTIES: Readonly<Record<string, PropertyMeaning>> = {
  'delta.appendOnly': { means: 'Rows may be added but never changed or removed.', standard: 'false', form: 'true or false' },
  'delta.checkpointInterval': { means: 'After how many versions the log is summed up in a checkpoint.', standard: '10', form: 'a whole number' },
  'delta.checkpointPolicy': { means: 'classic: one file; v2: a small file and sidecars, for tables of many files.', standard: 'classic', form: ['classic', 'v2'] },
  'delta.columnMapping.mode': { means: 'name: columns can be renamed and dropped without rewriting files. It cannot be turned off again.', standard: 'none', form: ['none', 'name', 'id'] },
  'delta.deletedFileRetentionDuration': { means: 'How long files that are no longer part of the table are kept, so that older versions can be read.', standard: 'interval 7 days', form: 'an interval, as in interval 30 days' },
  'delta.enableChangeDataFeed': { means: 'Updated and deleted rows are kept, so that changes can be read row by row.', standard: 'false', form: 'true or false' },
  'delta.enableDeletionVectors': { means: 'Updates and deletes mark rows instead of rewriting their files.', standard: 'false', form: 'true or false' },
  'delta.enableInCommitTimestamps': { means: 'Every version holds its own time, so that copying the table does not change it.', standard: 'false', form: 'true or false' },
  'delta.enableRowTracking': { means: 'Every row keeps an id and the version that last changed it. Only for tables without files yet.', standard: 'false', form: 'true or false' },
  'delta.enableTypeWidening': { means: 'Column types can be widened without rewriting files; older files are read as the wider type.', standard: 'false', form: 'true or false' },
  'delta.isolationLevel': { means: 'WriteSerializable: plain appends never conflict. Serializable: they do, with changes that should have seen them.', standard: 'WriteSerializable', form: ['WriteSerializable', 'Serializable'] },
  'delta.logRetentionDuration': { means: 'How far back versions can be read.', standard: 'interval 30 days', form: 'an interval, as in interval 30 days' },
  'delta.targetFileSize': { means: 'The size in bytes that compaction aims at.', standard: '134217728', form: 'a whole number' },
};

const UNITS: Record<string, number> = { millisecond: 1, second: 1000, minute: 60_000, hour: 3_600_000, day: 86_400_000, week: 604_800_000 };

/** `interval 7 days` in milliseconds; undefined for what cannot be read. */
export function intervalMillis(text: string): number | undefined {
  const match = /^\s*(?:interval\s+)?(\d+)\s+([a-z]+?)s?\s*$/i.exec(text);
  const unit = match && UNITS[match[2]!.toLowerCase()];
  return match && unit ? Number(match[1]) * unit : undefined;
}

/** A property as milliseconds, or what it is when it is not set. */
export function durationOf(configuration: Readonly<Record<string, string>>, name: 'delta.deletedFileRetentionDuration' | 'delta.logRetentionDuration'): number {
  return intervalMillis(configuration[name] ?? '') ?? intervalMillis(PROPERTIES[name]!.standard)!;
}

/** The size that new files aim at. */
export function targetFileBytes(configuration: Readonly<Record<string, string>>): number {
  return Number(configuration['delta.targetFileSize'] ?? PROPERTIES['delta.targetFileSize']!.standard);
}

/** The value when it may be set; `state` is the table as it is. Fails saying what may be. */
export function checkProperty(table: string, name: string, value: string, state?: LogState): string {
  const bad = (what: string): never => {
    throw new LakeError('bad-request', `${name} cannot be "${value}" for ${table}: ${what}. Nothing was changed.`, { table });
  };
  const known = PROPERTIES[name];
  if (!known) {
    if (/^delta\.(?!constraints\.|feature\.|universalFormat\.|dataSkipping|tuneFileSizes|autoOptimize|randomizeFilePrefixes|setTransactionRetention|minReader|minWriter|inCommitTimestamp|rowTracking\.|columnMapping\.maxColumnId)/.test(name)) {
      throw new LakeError('bad-request', `${name} is no property of Delta tables that is known. Nothing was changed.`, { table, hint: `Known: ${Object.keys(PROPERTIES).join(', ')}.` });
    }
    if (name.startsWith('delta.constraints.') || name.startsWith('delta.feature.') || name.startsWith('delta.min')) bad('it is not set by hand');
    return value;
  }
  const { form } = known;
  if (form === 'true or false' && value !== 'true' && value !== 'false') bad('it is true or false');
  if (form === 'a whole number' && !/^[1-9]\d*$/.test(value)) bad('it is a whole number above zero');
  if (form === 'an interval, as in interval 30 days' && intervalMillis(value) === undefined) bad('it is an interval, as in "interval 30 days"');
  if (Array.isArray(form) && !form.includes(value)) bad(`it is ${form.join(' or ')}`);
  if (!state) return value;
  const before = state.metadata.configuration[name] ?? known.standard;
  if (name === 'delta.columnMapping.mode' && before !== 'none' && before !== value) bad(`columns are mapped by ${before} already, which cannot be changed`);
  if (name === 'delta.enableRowTracking' && value === 'true' && before !== 'true' && state.files.count > 0) bad('its files have no row ids; row tracking begins with an empty table');
  return value;
}
