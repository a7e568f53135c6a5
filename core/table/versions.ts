import { LakeError } from '../errors';
import type { AsOf, CommitTime, Version } from './contract';

interface Numbered {
  version: Version;
  snapshotId?: string;
  at: CommitTime;
}

/** Finds the state that `asOf` means among a table's versions (oldest first), or says which exist. */
export function pickVersion<T extends Numbered>(table: string, versions: readonly T[], asOf: AsOf): T {
  const last = versions.at(-1);
  if (!last) throw new LakeError('not-found', `${table} has no version yet.`, { table });
  const first = versions[0]!;
  switch (asOf.kind) {
    case 'latest':
      return last;
    case 'number': {
      const wanted = asOf.number.toString();
      const found = versions.find((each) => BigInt(each.version) === asOf.number) ?? versions.find((each) => each.snapshotId === wanted);
      if (found) return found;
      throw new LakeError('not-found', `${table} has no version ${wanted}: it has ${describe(versions)}.`, {
        table,
        hint: `Versions ${first.version} to ${last.version} can be read.`,
      });
    }
    case 'ref':
      throw new LakeError('not-found', `${table} has no branch or tag "${asOf.name}": only Iceberg tables have those.`, { table });
    case 'time': {
      const found = versions.findLast((each) => each.at <= asOf.at);
      if (found) return found;
      throw new LakeError('not-found', `${table} did not exist at ${new Date(asOf.at).toISOString()}: its first version is from ${new Date(first.at).toISOString()}.`, {
        table,
        hint: `Ask for a time from ${new Date(first.at).toISOString()} on.`,
      });
    }
  }
}

function describe(versions: readonly Numbered[]): string {
  const [first, last] = [versions[0]!, versions.at(-1)!];
  return first === last ? `only version ${first.version}` : `versions ${first.version} to ${last.version}`;
}
