/** Row tracking (Delta protocol, "Row Tracking"): every row has an id that stays with it, and the version that last changed it. */
import { parseJson } from '../json';
import type { Add, DomainMetadata, Metadata } from './actions';
import { rowCountOf } from './stats';
import type { LogState } from './state';

/** Gives the files of one commit their first row ids, above all that were given before. */
export class RowIds {
  static readonly DOMAIN = 'delta.rowTracking';
  #next: number;

  private constructor(highWaterMark: number) {
    this.#next = highWaterMark + 1;
  }

  static of(state: LogState | undefined): RowIds {
    const domain = state?.domains.get(RowIds.DOMAIN);
    const mark = domain ? Number((parseJson(domain.configuration) as { rowIdHighWaterMark?: number }).rowIdHighWaterMark ?? -1) : -1;
    return new RowIds(mark);
  }

  /** A file that is added again (with another vector) keeps the numbers that it has. */
  number(add: Add, version: number): Add {
    if (add.baseRowId !== undefined && add.defaultRowCommitVersion !== undefined) return add;
    const baseRowId = this.#next;
    this.#next += rowCountOf(add.stats) ?? 0;
    return { ...add, baseRowId, defaultRowCommitVersion: version };
  }

  domain(): DomainMetadata {
    return { domain: RowIds.DOMAIN, configuration: JSON.stringify({ rowIdHighWaterMark: this.#next - 1 }), removed: false };
  }
}

/** Columns of files that keep ids and versions of rows that were moved there; undefined unless rows are tracked. */
export function rowTrackingColumns({ configuration }: Metadata): { id: string; version: string } | undefined {
  if (configuration['delta.enableRowTracking'] !== 'true') return undefined;
  const [id, version] = [configuration['delta.rowTracking.materializedRowIdColumnName'], configuration['delta.rowTracking.materializedRowCommitVersionColumnName']];
  return id && version ? { id, version } : undefined;
}
