/** Random histories of an Iceberg table against a model of plain rows: whatever was done, every snapshot that is kept must read as the model has it. */
import fc from 'fast-check';
import { expireSnapshots } from '../../core/iceberg/expire';
import { refsOf, snapshotById, versionOf } from '../../core/iceberg/metadata';
import { addColumns, changePartitioning, changeSchema, setProperties, upgrade } from '../../core/iceberg/operations';
import { cherryPick, rollBack, setRef } from '../../core/iceberg/refs';
import { rewriteManifests } from '../../core/iceberg/rewrite';
import { withRenamedColumn } from '../../core/iceberg/schema-edit';
import { field } from '../../core/schema/types';
import { parseTypeName } from '../../core/schema/type-names';
import { randomIds, systemClock } from '../lake/lake';
import type { SqlBench } from './sql-bench';

interface Row {
  id: number;
  v: number | null;
  g: string | null;
}

export type IcebergStep =
  | { kind: 'insert'; rows: Row[] } | { kind: 'update'; below: number; add: number } | { kind: 'delete'; modulo: number; rest: number } | { kind: 'merge'; rows: Row[] } | { kind: 'replace'; g: string; rows: Row[] }
  | { kind: 'roll-back'; back: number } | { kind: 'rewrite'; onlyDeletes: boolean } | { kind: 'manifests' } | { kind: 'expire'; keep: number } | { kind: 'property'; name: string; value: string }
  | { kind: 'column' } | { kind: 'rename' } | { kind: 'partition'; transform: string; source: string } | { kind: 'upgrade' } | { kind: 'branch'; rows: Row[]; pick: boolean };

const row: fc.Arbitrary<Row> = fc.record({ id: fc.nat(30), v: fc.option(fc.integer({ min: -5, max: 50 })), g: fc.option(fc.constantFrom('a', 'b', 'ö/=', '')) });
const rows = fc.array(row, { minLength: 1, maxLength: 8 });
const step: fc.Arbitrary<IcebergStep> = fc.oneof(
  { weight: 4, arbitrary: rows.map((each) => ({ kind: 'insert' as const, rows: each })) },
  { weight: 3, arbitrary: fc.record({ kind: fc.constant('update' as const), below: fc.nat(40), add: fc.integer({ min: -3, max: 3 }) }) },
  { weight: 3, arbitrary: fc.record({ kind: fc.constant('delete' as const), modulo: fc.integer({ min: 2, max: 5 }), rest: fc.nat(1) }) },
  { weight: 3, arbitrary: rows.map((each) => ({ kind: 'merge' as const, rows: each })) },
  { weight: 1, arbitrary: fc.record({ kind: fc.constant('replace' as const), g: fc.constantFrom('a', 'b'), rows }) },
  { weight: 1, arbitrary: fc.record({ kind: fc.constant('roll-back' as const), back: fc.integer({ min: 1, max: 3 }) }) },
  { weight: 2, arbitrary: fc.record({ kind: fc.constant('rewrite' as const), onlyDeletes: fc.boolean() }) },
  { weight: 1, arbitrary: fc.constant({ kind: 'manifests' as const }) },
  { weight: 1, arbitrary: fc.record({ kind: fc.constant('expire' as const), keep: fc.integer({ min: 1, max: 3 }) }) },
  { weight: 3, arbitrary: fc.constantFrom(['write.delete.mode', 'merge-on-read'], ['write.update.mode', 'merge-on-read'], ['write.merge.mode', 'merge-on-read'], ['write.delete.mode', 'copy-on-write'], ['write.delete.granularity', 'file'], ['commit.manifest.min-count-to-merge', '2']).map(([name, value]) => ({ kind: 'property' as const, name: name!, value: value! })) },
  { weight: 1, arbitrary: fc.constant({ kind: 'column' as const }) },
  { weight: 1, arbitrary: fc.constant({ kind: 'rename' as const }) },
  { weight: 1, arbitrary: fc.constantFrom(['bucket[3]', 'id'], ['truncate[1]', 'g'], ['identity', 'g'], ['truncate[10]', 'id']).map(([transform, source]) => ({ kind: 'partition' as const, transform: transform!, source: source! })) },
  { weight: 1, arbitrary: fc.constant({ kind: 'upgrade' as const }) },
  { weight: 1, arbitrary: fc.record({ kind: fc.constant('branch' as const), rows, pick: fc.boolean() }) },
);

export const icebergHistory = fc.record({ partitioned: fc.boolean(), version: fc.constantFrom(2 as const, 3 as const), steps: fc.array(step, { minLength: 3, maxLength: 12 }) });
export type IcebergHistory = typeof icebergHistory extends fc.Arbitrary<infer T> ? T : never;

const text = (value: unknown) => (value === null ? 'NULL' : typeof value === 'string' ? `'${value}'` : String(value));
const values = (list: readonly Row[]) => list.map(({ id, v, g }) => `(${text(id)}, ${text(v)}::INTEGER, ${text(g)}::VARCHAR)`).join(', ');
const sorted = (list: readonly Row[]) => list.map(({ id, v, g }) => JSON.stringify([id, v, g])).sort();

/** Runs a history and returns what differs, or undefined. */
export async function replayIcebergHistory(bench: SqlBench, name: string, { partitioned, version, steps }: IcebergHistory): Promise<string | undefined> {
  const ports = { clock: systemClock, ids: randomIds, who: 'model' };
  const types = { id: 'bigint', v: 'integer', g: 'varchar' };
  const table = await bench.createIceberg(name, { schema: { fields: Object.entries(types).map(([each, type]) => field(each, parseTypeName(type))) }, formatVersion: version, ...(partitioned ? { partitionBy: [{ source: 'g', transform: 'identity' }] } : {}) });
  const t = `bay.${name}`;
  /** Rows by snapshot id. */
  const states = new Map<string, { rows: Row[]; v: string }>();
  let now: Row[] = [];
  let v = 'v';
  let [added, branches] = [0, 0];
  const head = async () => (await table.current()).metadata;
  const note = async () => {
    const metadata = await head();
    const id = refsOf(metadata).main?.['snapshot-id'];
    if (id !== undefined) states.set(String(id), { rows: now, v });
  };
  for (const each of steps) {
    switch (each.kind) {
      case 'insert':
        await bench.run(`INSERT INTO ${t} (id, ${v}, g) VALUES ${values(each.rows)}`);
        now = [...now, ...each.rows];
        break;
      case 'update':
        await bench.run(`UPDATE ${t} SET ${v} = ${v} + ${each.add} WHERE ${v} < ${each.below}`);
        now = now.map((one) => (one.v !== null && one.v < each.below ? { ...one, v: one.v + each.add } : one));
        break;
      case 'delete':
        await bench.run(`DELETE FROM ${t} WHERE id % ${each.modulo} = ${each.rest}`);
        now = now.filter((one) => one.id % each.modulo !== each.rest);
        break;
      case 'merge': {
        const source = [...new Map(each.rows.map((one) => [one.id, one])).values()];
        const byId = new Map(source.map((one) => [one.id, one]));
        const present = new Set(now.map((one) => one.id));
        await bench.run(`MERGE INTO ${t} AS t USING (VALUES ${values(source)}) AS s(id, v, g) ON t.id = s.id WHEN MATCHED AND s.g = 'b' THEN DELETE WHEN MATCHED THEN UPDATE SET ${v} = s.v WHEN NOT MATCHED THEN INSERT (id, ${v}, g) VALUES (s.id, s.v, s.g)`);
        now = [...now.flatMap((one) => {
          const met = byId.get(one.id);
          return !met ? [one] : met.g === 'b' ? [] : [{ ...one, v: met.v }];
        }), ...source.filter((one) => !present.has(one.id))];
        break;
      }
      case 'replace': {
        const come = each.rows.map((one) => ({ ...one, g: each.g }));
        await bench.run(`REPLACE ROWS OF ${t} WHERE g = '${each.g}' BY SELECT id, v AS ${v}, g FROM (VALUES ${values(come)}) AS s(id, v, g)`);
        now = [...now.filter((one) => one.g !== each.g), ...come];
        break;
      }
      case 'roll-back': {
        const metadata = await head();
        let at = snapshotById(metadata, refsOf(metadata).main?.['snapshot-id']);
        for (let back = 0; back < each.back && at; back++) at = snapshotById(metadata, at['parent-snapshot-id']) ?? at;
        if (!at) break;
        await rollBack(table, at['snapshot-id'], ports);
        now = states.get(String(at['snapshot-id']))!.rows;
        break;
      }
      case 'rewrite':
        await bench.icebergUpkeep.rewrite(table, bench.storage, { onlyDeletes: each.onlyDeletes }, 'model');
        break;
      case 'manifests':
        await rewriteManifests(table, 8e6, ports, true);
        break;
      case 'expire':
        await expireSnapshots(table, { now: systemClock.now() + 1000, olderThanMs: 0, keepLast: each.keep }, ports);
        break;
      case 'property':
        await setProperties(table, { [each.name]: each.value }, ports);
        break;
      case 'column':
        await addColumns(table, [field(`more${added++}`, 'long')], ports);
        break;
      case 'rename': {
        const next = v === 'v' ? 'w' : 'v';
        await changeSchema(table, (metadata) => withRenamedColumn(metadata, t, v, next), ports);
        v = next;
        break;
      }
      case 'partition': {
        const metadata = await head();
        const current = metadata['partition-specs'].find((one) => one['spec-id'] === metadata['default-spec-id'])!;
        await changePartitioning(table, { remove: current.fields.map((one) => one.name), add: [{ source: each.source, transform: each.transform, name: each.transform === 'identity' ? each.source : `p${added++}` }] }, ports);
        break;
      }
      case 'upgrade':
        await upgrade(table, 3, ports);
        break;
      case 'branch': {
        if (refsOf(await head()).main === undefined) break;
        const branch = `b${branches++}`;
        await setRef(table, { name: branch, type: 'branch' }, ports);
        await bench.run(`INSERT INTO ${t} BRANCH '${branch}' (id, ${v}, g) VALUES ${values(each.rows)}`);
        const metadata = await head();
        const id = refsOf(metadata)[branch]!['snapshot-id'];
        states.set(String(id), { rows: [...now, ...each.rows], v });
        if (!each.pick) break;
        await cherryPick(table, id, ports);
        now = [...now, ...each.rows];
        break;
      }
    }
    await note();
  }
  // A reader that has seen nothing yet.
  const fresh = bench.openIceberg(name);
  const { metadata } = await fresh.current();
  const compare = async (clause: string, of: Row[], column: string) => {
    const read = (await bench.rows(`SELECT id, ${column}, g FROM ${t} ${clause}`)).map(([id, value, g]) => ({ id, v: value, g }) as Row);
    return JSON.stringify(sorted(read)) === JSON.stringify(sorted(of)) ? undefined : `${clause || 'the newest state'} reads ${JSON.stringify(sorted(read))}, where the model has ${JSON.stringify(sorted(of))}`;
  };
  const problem = await compare('', now, v);
  if (problem) return problem;
  for (const snapshot of metadata.snapshots ?? []) {
    const id = String(snapshot['snapshot-id']);
    const state = states.get(id);
    if (!state) return `snapshot ${id} (${versionOf(metadata, snapshot)}) is of no step`;
    // The columns of a snapshot are those that it was written with.
    const names = metadata.schemas.find((one) => one['schema-id'] === snapshot['schema-id'])!.fields.map((one) => one.name);
    const different = await compare(`FOR SYSTEM_VERSION AS OF ${id}`, state.rows, names.includes('v') ? 'v' : 'w');
    if (different) return different;
    const totals = await (await fresh.snapshot({ kind: 'number', number: BigInt(id) })).totals();
    if (totals.rows !== state.rows.length) return `snapshot ${id} tells ${totals.rows} rows, where the model has ${state.rows.length}`;
  }
  return undefined;
}
