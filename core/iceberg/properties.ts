/** Table properties that this program acts on (names and defaults by common practice; the specification leaves them to writers). */
import { LakeError } from '../errors';

export interface PropertyMeaning {
  means: string;
  /** What counts when it is not set. */
  standard: string;
  /** Allowed values, or what a value looks like. */
  form: readonly string[] | string;
}

const MODES = ['copy-on-write', 'merge-on-read'];
const LEVELS = ['serializable', 'snapshot'];
const YES = ['true', 'false'];

export const PROPERTIES: Record<string, PropertyMeaning> = {
  'write.delete.mode': { means: 'Whether DELETE writes files anew without the rows, or marks them as deleted beside the files.', standard: 'copy-on-write', form: MODES },
  'write.update.mode': { means: 'The same for UPDATE.', standard: 'copy-on-write', form: MODES },
  'write.merge.mode': { means: 'The same for MERGE.', standard: 'copy-on-write', form: MODES },
  'write.delete.isolation-level': { means: 'Whether DELETE fails when rows came meanwhile that it would have concerned (serializable), or only when its own files changed.', standard: 'serializable', form: LEVELS },
  'write.update.isolation-level': { means: 'The same for UPDATE.', standard: 'serializable', form: LEVELS },
  'write.merge.isolation-level': { means: 'The same for MERGE.', standard: 'serializable', form: LEVELS },
  'write.delete.granularity': { means: 'Position delete files for a partition together, or one for each data file.', standard: 'partition', form: ['partition', 'file'] },
  'write.target-file-size-bytes': { means: 'Size that data files are written to and put together to.', standard: '134217728', form: 'bytes' },
  'write.metadata.metrics.default': { means: 'How much is kept of each column for skipping files.', standard: 'truncate(16)', form: 'none, counts, truncate(n) or full' },
  'write.metadata.previous-versions-max': { means: 'Former metadata files that the table remembers.', standard: '100', form: 'a whole number' },
  'write.metadata.delete-after-commit.enabled': { means: 'Whether metadata files that it no longer remembers are removed at each commit.', standard: 'false', form: YES },
  'write.metadata.compression-codec': { means: 'Whether metadata files are packed.', standard: 'none', form: ['none', 'gzip'] },
  'commit.manifest-merge.enabled': { means: 'Whether small manifests are put together as snapshots are made.', standard: 'true', form: YES },
  'commit.manifest.min-count-to-merge': { means: 'From how many manifests on.', standard: '100', form: 'a whole number' },
  'commit.manifest.target-size-bytes': { means: 'Up to which size.', standard: '8388608', form: 'bytes' },
  'history.expire.max-snapshot-age-ms': { means: 'Age from which expiry takes snapshots away.', standard: '432000000', form: 'milliseconds' },
  'history.expire.min-snapshots-to-keep': { means: 'Snapshots of each branch that expiry keeps in any case.', standard: '1', form: 'a whole number' },
  'history.expire.max-ref-age-ms': { means: 'Age from which expiry takes branches and tags away, but for main.', standard: 'never', form: 'milliseconds' },
};

/** Fails with `bad-request` for a value that the property cannot have. */
export function checkProperty(name: string, value: string, table: string): void {
  const form = PROPERTIES[name]?.form;
  if (form === undefined) return;
  const isGood = Array.isArray(form) ? form.includes(value) : name.startsWith('write.metadata.metrics') ? /^(none|counts|full|truncate\([1-9]\d*\))$/.test(value) : /^[1-9]\d*$/.test(value);
  if (!isGood) throw new LakeError('bad-request', `${table}: ${name} cannot be "${value}"; it is ${Array.isArray(form) ? form.join(' or ') : form}.`, { table });
}
