/** A table of a connected database through the same contract as the lake's. It has no versions: what is read is what is there now. */
import { LakeError } from '../../core/errors';
import type { Predicate } from '../../core/scan/predicate';
import { planScan, totalsOf, type DataFile } from '../../core/scan/plan';
import type { Field } from '../../core/schema/types';
import type { AsOf, LakeTable, Snapshot, TimelineEntry } from '../../core/table/contract';
import type { SourceDriver } from './driver';

export interface SourcePlace {
  schema: string;
  name: string;
}

export class SourceTable implements LakeTable {
  readonly format = 'postgres' as const;

  constructor(
    readonly driver: SourceDriver,
    readonly place: SourcePlace,
    readonly name: string,
  ) {}

  async history(): Promise<TimelineEntry[]> {
    return [];
  }

  async snapshot(asOf: AsOf): Promise<Snapshot> {
    if (asOf.kind !== 'latest' && !(asOf.kind === 'number' && asOf.number === 0n)) throw new LakeError('bad-request', `${this.name} is a table of a database, which keeps no versions; only what is there now can be read.`, { table: this.name });
    const fields = await this.#fields();
    const files = async () => [await this.#file()];
    return {
      format: this.format, version: 0, at: Date.now(), schema: { fields }, partitioning: [], sortedBy: [], properties: {},
      files,
      totals: async () => totalsOf(await files()),
      plan: async (predicate: Predicate) => planScan({ kind: 'source', driver: this.driver, place: this.place, predicate }, fields, await files(), predicate),
    };
  }

  async #fields(): Promise<Field[]> {
    const key = `${this.place.schema}/${this.place.name}`;
    const fields = (await this.driver.columns()).get(key);
    if (!fields) throw new LakeError('not-found', `${this.name}: there is no ${this.place.schema}.${this.place.name} in the database any more, or it may not be read.`, { table: this.name });
    return fields;
  }

  async #file(): Promise<DataFile> {
    const object = (await this.driver.objects()).find((each) => each.schema === this.place.schema && each.name === this.place.name);
    return {
      path: `${this.place.schema}/${this.place.name}`, bytes: object?.bytes ?? 0, ...(object?.rows === null || object?.rows === undefined ? {} : { rows: object.rows }),
      partition: {}, constants: {}, partitionStats: () => undefined, stats: () => undefined,
    };
  }
}
