/** Random histories of a table against a model of plain rows: whatever was done, every version must read as the model has it. */
import fc from 'fast-check';
import { addColumns, renameColumn, restore, setProperties } from '../../core/delta/operations';
import { field } from '../../core/schema/types';
import { parseTypeName } from '../../core/schema/type-names';
import { randomIds, systemClock } from '../lake/lake';
import type { SqlBench } from './sql-bench';

interface Row {
  id: number;
  v: number | null;
  g: string | null;
}

export type Step =
  | { kind: 'insert'; rows: Row[] }
  | { kind: 'update'; below: number; add: number }
  | { kind: 'delete'; modulo: number; rest: number }
  | { kind: 'merge'; rows: Row[] }
  | { kind: 'replace'; g: string; rows: Row[] }
  | { kind: 'restore'; back: number }
  | { kind: 'compact' }
  | { kind: 'checkpoint' }
  | { kind: 'property'; name: string; value: string }
  | { kind: 'column' }
  | { kind: 'rename' };

const row: fc.Arbitrary<Row> = fc.record({ id: fc.nat(30), v: fc.option(fc.integer({ min: -5, max: 50 })), g: fc.option(fc.constantFrom('a', 'b', 'ö/=')) });
const rows = fc.array(row, { minLength: 1, maxLength: 8 });
const step: fc.Arbitrary<Step> = fc.oneof(
  { weight: 4, arbitrary: rows.map((each) => ({ kind: 'insert' as const, rows: each })) },
  { weight: 3, arbitrary: fc.record({ kind: fc.constant('update' as const), below: fc.nat(40), add: fc.integer({ min: -3, max: 3 }) }) },
  { weight: 3, arbitrary: fc.record({ kind: fc.constant('delete' as const), modulo: fc.integer({ min: 2, max: 5 }), rest: fc.nat(1) }) },
  { weight: 3, arbitrary: rows.map((each) => ({ kind: 'merge' as const, rows: each })) },
  { weight: 1, arbitrary: fc.record({ kind: fc.constant('replace' as const), g: fc.constantFrom('a', 'b'), rows }) },
  { weight: 1, arbitrary: fc.record({ kind: fc.constant('restore' as const), back: fc.integer({ min: 1, max: 4 }) }) },
  { weight: 1, arbitrary: fc.constant({ kind: 'compact' as const }) },
  { weight: 1, arbitrary: fc.constant({ kind: 'checkpoint' as const }) },
  { weight: 1, arbitrary: fc.constantFrom(['delta.enableDeletionVectors', 'true'], ['delta.enableDeletionVectors', 'false'], ['delta.enableChangeDataFeed', 'true'], ['delta.checkpointPolicy', 'v2'], ['delta.columnMapping.mode', 'name']).map(([name, value]) => ({ kind: 'property' as const, name: name!, value: value! })) },
  { weight: 1, arbitrary: fc.constant({ kind: 'column' as const }) },
  { weight: 1, arbitrary: fc.constant({ kind: 'rename' as const }) },
);

export const history = fc.record({ partitioned: fc.boolean(), steps: fc.array(step, { minLength: 3, maxLength: 12 }) });
export type History = typeof history extends fc.Arbitrary<infer T> ? T : never;

const text = (value: unknown) => (value === null ? 'NULL' : typeof value === 'string' ? `'${value}'` : String(value));
const values = (list: readonly Row[]) => list.map(({ id, v, g }) => `(${text(id)}, ${text(v)}::INTEGER, ${text(g)}::VARCHAR)`).join(', ');
const sorted = (list: readonly Row[]) => list.map(({ id, v, g }) => JSON.stringify([id, v, g])).sort();

/** Runs a history and returns what differs, or undefined. */
export async function replayHistory(bench: SqlBench, name: string, { partitioned, steps }: History): Promise<string | undefined> {
  const ports = { clock: systemClock, ids: randomIds, who: 'model' };
  const types = { id: 'bigint', v: 'integer', g: 'varchar' };
  const table = await bench.create(name, { schema: { fields: Object.entries(types).map(([each, type]) => field(each, parseTypeName(type))) }, ...(partitioned ? { partitionColumns: ['g'] } : {}) });
  const versions: Row[][] = [[]];
  /** The name of the column `v`, by version. */
  const names: string[] = ['v'];
  let added = 0;
  for (const each of steps) {
    const now = versions.at(-1)!;
    const v = names.at(-1)!;
    const t = `bay.${name}`;
    let version: number | null = null;
    let next: Row[] = now;
    let named = v;
    switch (each.kind) {
      case 'insert':
        next = [...now, ...each.rows];
        version = (await bench.run(`INSERT INTO ${t} (id, ${v}, g) VALUES ${values(each.rows)}`)).written.version;
        break;
      case 'update':
        next = now.map((one) => (one.v !== null && one.v < each.below ? { ...one, v: one.v + each.add } : one));
        version = (await bench.run(`UPDATE ${t} SET ${v} = ${v} + ${each.add} WHERE ${v} < ${each.below}`)).written.version;
        break;
      case 'delete':
        next = now.filter((one) => one.id % each.modulo !== each.rest);
        version = (await bench.run(`DELETE FROM ${t} WHERE id % ${each.modulo} = ${each.rest}`)).written.version;
        break;
      case 'merge': {
        const source = [...new Map(each.rows.map((one) => [one.id, one])).values()];
        const byId = new Map(source.map((one) => [one.id, one]));
        const present = new Set(now.map((one) => one.id));
        next = [...now.flatMap((one) => {
          const met = byId.get(one.id);
          return !met ? [one] : met.g === 'b' ? [] : [{ ...one, v: met.v }];
        }), ...source.filter((one) => !present.has(one.id))];
        version = (await bench.run(`MERGE INTO ${t} AS t USING (VALUES ${values(source)}) AS s(id, v, g) ON t.id = s.id WHEN MATCHED AND s.g = 'b' THEN DELETE WHEN MATCHED THEN UPDATE SET ${v} = s.v WHEN NOT MATCHED THEN INSERT (id, ${v}, g) VALUES (s.id, s.v, s.g)`)).written.version;
        break;
      }
      case 'replace': {
        const come = each.rows.map((one) => ({ ...one, g: each.g }));
        next = [...now.filter((one) => one.g !== each.g), ...come];
        version = (await bench.run(`REPLACE ROWS OF ${t} WHERE g = '${each.g}' BY SELECT id, v AS ${v}, g FROM (VALUES ${values(come)}) AS s(id, v, g)`)).written.version;
        break;
      }
      case 'restore': {
        const to = Math.max(0, versions.length - 1 - each.back);
        next = versions[to]!;
        named = names[to]!;
        version = await restore(table, { kind: 'number', number: BigInt(to) }, ports);
        break;
      }
      case 'compact':
        version = (await bench.upkeep.compact(table, bench.storage, {}, 'model')).version;
        break;
      case 'checkpoint':
        await bench.upkeep.checkpoint(table, bench.storage);
        break;
      case 'property': {
        const { configuration } = (await table.state(versions.length - 1, await table.log())).metadata;
        if (configuration[each.name] !== each.value) version = await setProperties(table, { [each.name]: each.value }, ports);
        break;
      }
      case 'column':
        version = await addColumns(table, [field(`more${added++}`, 'long')], ports);
        break;
      case 'rename': {
        const { configuration } = (await table.state(versions.length - 1, await table.log())).metadata;
        if (configuration['delta.columnMapping.mode'] !== 'name') break;
        named = v === 'v' ? 'w' : 'v';
        version = await renameColumn(table, v, named, ports);
        break;
      }
    }
    if (version === null) continue;
    if (version !== versions.length) return `${each.kind} made version ${version}, where ${versions.length} comes next`;
    versions.push(next);
    names.push(named);
  }
  // A reader that has seen nothing yet.
  bench.open(name);
  for (const [version, expected] of versions.entries()) {
    const read = (await bench.rows(`SELECT id, ${names[version]!}, g FROM bay.${name} FOR SYSTEM_VERSION AS OF ${version}`)).map(([id, v, g]) => ({ id, v, g }) as Row);
    if (JSON.stringify(sorted(read)) !== JSON.stringify(sorted(expected))) return `version ${version} reads ${JSON.stringify(sorted(read))}, where the model has ${JSON.stringify(sorted(expected))}`;
  }
  return undefined;
}
