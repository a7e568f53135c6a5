/** The refined tables, written by our own writers through the core's commit path, each with its history. */
import { addColumns as addDeltaColumns, append as appendDelta, createDeltaTable, latestState, changeRows, restore } from '../core/delta/operations';
import type { CommitPorts } from '../core/delta/commit';
import { schemaOf } from '../core/delta/schema';
import { allFiles } from '../core/delta/live-files';
import { DeltaTable } from '../core/delta/table';
import { addColumns as addIcebergColumns, append as appendIceberg, createIcebergTable } from '../core/iceberg/operations';
import { parseSchema as parseIcebergSchema, schemaJson } from '../core/iceberg/schema';
import { IcebergTable } from '../core/iceberg/table';
import { field, type TableSchema } from '../core/schema/types';
import type { WrittenFile } from '../core/table/written-file';
import { parseDate } from '../core/values/text';
import type { Value } from '../core/values/value';
import { DAYS, dayText, type DemoPorts } from './ports';

function commitPorts({ clock, ids }: DemoPorts, who: string): CommitPorts {
  return { clock, ids, who };
}

const SOUNDINGS: TableSchema = {
  fields: [
    field('taken_at', 'timestamptz', { required: true, comment: 'When the reading was taken' }), field('buoy_id', 'string', { required: true }),
    field('depth_m', 'double'), field('temp_c', 'double'), field('salinity_psu', 'double'), field('oxygen_mg_l', 'double'),
    field('turbidity_ntu', 'double'), field('battery_v', 'float'),
  ],
};

/** 36 versions: January in one load, February by the week, March by the day; a column more from March on. */
export async function refineSoundings(ports: DemoPorts): Promise<void> {
  const root = 'refined/soundings';
  const pointer = await ports.icebergPointer('refined.soundings', root, 'Ten-minute readings from the moored buoys, without duplicate transmissions.');
  const table = new IcebergTable(ports.store, root, 'refined.soundings', pointer);
  ports.clock.set('2026-01-05T09:00:00Z');
  await createIcebergTable(table, { schema: SOUNDINGS, partitionBy: [{ source: 'taken_at', transform: 'day' }], sortBy: ['buoy_id', 'taken_at'] }, commitPorts(ports, 'M. Reed'));
  const loads: { at: string; from: number; to: number }[] = [
    { at: '2026-02-01T06:10:00Z', from: 0, to: 31 },
    ...[31, 38, 45, 52].map((from) => ({ at: `${dayText(from + 7)}T06:10:00Z`, from, to: from + 7 })),
  ];
  for (let day = 59; day < DAYS; day++) loads.push({ at: day === DAYS - 1 ? `${dayText(day)}T23:59:30Z` : `${dayText(day + 1)}T05:50:00Z`, from: day, to: day + 1 });
  for (const [index, { at, from, to }] of loads.entries()) {
    if (from === 59) {
      ports.clock.set('2026-03-01T08:00:00Z');
      await addIcebergColumns(table, [field('chlorophyll_ug_l', 'double', { comment: 'New probe, from 1 March' })], commitPorts(ports, 'M. Reed'));
    }
    ports.clock.set(at);
    const files: WrittenFile[] = [];
    for (let day = from; day < to; day++) files.push(...(await writeDay(ports, table, day)));
    await appendIceberg(table, files, commitPorts(ports, 'soundings load'));
    ports.progress('Refining soundings', index + 1, loads.length);
  }
}

/** Two files a day, by buoy number, sorted by buoy: so bounds on buoy_id tell them apart. */
async function writeDay(ports: DemoPorts, table: IcebergTable, n: number): Promise<WrittenFile[]> {
  const day = dayText(n);
  await ports.wantDay(n);
  const { metadata } = await table.current();
  const json = metadata.schemas.find((each) => each['schema-id'] === metadata['current-schema-id'])!;
  const schema = parseIcebergSchema(json, table.name);
  const buoys = 48 * ports.scale;
  // Names are drawn in order before the two files are written side by side.
  return Promise.all([0, 1].map((half) => {
    const [low, high] = half === 0 ? [1, buoys / 2] : [buoys / 2 + 1, buoys];
    return ports.rowFiles.write({
      sql: `SELECT ${schema.fields.map((each) => each.name).join(', ')} FROM demo.soundings WHERE day = DATE '${day}' AND buoy BETWEEN ${low} AND ${high} ORDER BY buoy_id, taken_at`,
      path: `${table.root}/data/taken_at_day=${day}/${ports.ids.uuid()}.parquet`,
      schema,
      partition: { taken_at_day: parseDate(day)! },
      keyValues: { 'iceberg.schema': JSON.stringify(schemaJson(schema)) },
    });
  }));
}

const SIGHTINGS: TableSchema = {
  fields: [
    field('sighting_id', 'long', { required: true }), field('seen_at', 'timestamptz'), field('what', 'string'), field('how_many', 'int'),
    field('place', { kind: 'struct', fields: [field('name', 'string'), field('lat', 'double'), field('lon', 'double'), field('address', 'string')] }),
    field('note', 'string'),
  ],
};

export async function refineSightings(ports: DemoPorts): Promise<void> {
  const root = 'refined/sightings';
  const pointer = await ports.icebergPointer('refined.sightings', root, 'What volunteers saw, and where.');
  const table = new IcebergTable(ports.store, root, 'refined.sightings', pointer);
  ports.clock.set('2026-01-12T09:00:00Z');
  const metadata = await createIcebergTable(table, { schema: SIGHTINGS }, commitPorts(ports, 'A. Sunde'));
  const schema = parseIcebergSchema(metadata.schemas[0]!, table.name);
  for (const [month, at] of [['2026-01', '2026-02-02T07:00:00Z'], ['2026-02', '2026-03-02T07:00:00Z'], ['2026-03', '2026-03-31T23:50:00Z']] as const) {
    ports.clock.set(at);
    const file = await ports.rowFiles.write({
      sql: `SELECT * FROM demo.sightings WHERE strftime(seen_at, '%Y-%m') = '${month}' ORDER BY sighting_id`,
      path: `${root}/data/${ports.ids.uuid()}.parquet`, schema, keyValues: { 'iceberg.schema': JSON.stringify(schemaJson(schema)) },
    });
    await appendIceberg(table, [file], commitPorts(ports, 'sightings load'));
  }
}

const BOTTLES: TableSchema = {
  fields: [
    field('bottle_id', 'string', { comment: 'Key: one row a bottle' }), field('site', 'string'), field('sampled_at', 'timestamptz'), field('oxygen_mg_l', 'double'),
    field('temp_c', 'double'), field('nitrate_umol_l', 'double'), field('coliform_cfu', 'int'), field('analyst', 'string'),
  ],
};

/** Everything that was written so far has the time of then. */
async function timeIs({ clock }: DemoPorts, table: DeltaTable, at: string): Promise<void> {
  await table.settled();
  clock.set(at);
}

/** Fourteen versions: loads, a correction, a column, a bad load and the restore after it, a compaction. */
export async function refineBottles(ports: DemoPorts): Promise<void> {
  const table = new DeltaTable(ports.store, 'refined/bottles', 'refined.bottles');
  await ports.registerDelta('refined.bottles', table.root, 'Lab results, one row per bottle, keyed by bottle_id.');
  const lab = commitPorts(ports, 'lab import');
  await timeIs(ports, table, '2025-03-03T09:00:00Z');
  await createDeltaTable(table, { schema: BOTTLES, description: 'Lab results, one row per bottle', properties: { 'delta.enableInCommitTimestamps': 'true' } }, commitPorts(ports, 'R. Holt'));
  const load = async (at: string, from: string, before: string, change = '*') => {
    await timeIs(ports, table, at);
    await appendDelta(table, [await writeBottles(ports, table, `SELECT ${change} FROM demo.bottles WHERE sampled_at >= TIMESTAMPTZ '${from} 00:00:00+00' AND sampled_at < TIMESTAMPTZ '${before} 00:00:00+00' ORDER BY bottle_id`)], lab);
  };
  await load('2025-05-05T08:30:00Z', '2025-02-01', '2025-05-01');
  await load('2025-08-04T08:30:00Z', '2025-05-01', '2025-08-01');
  await load('2025-11-03T08:30:00Z', '2025-08-01', '2025-11-01');
  await load('2026-01-05T08:30:00Z', '2025-11-01', '2026-01-01');
  await correctNitrate(ports, table);
  await load('2026-02-02T08:30:00Z', '2026-01-01', '2026-02-01');
  await timeIs(ports, table, '2026-02-09T14:05:00Z');
  await addDeltaColumns(table, [field('method', 'string', { comment: 'How coliforms were counted, from February 2026' })], commitPorts(ports, 'R. Holt'));
  const method = `*, CASE WHEN hash(bottle_id) % 3 = 0 THEN 'plate' ELSE 'membrane' END AS method`;
  await load('2026-03-02T08:30:00Z', '2026-02-01', '2026-03-01', method);
  // The bad load: oxygen arrived in tenths.
  await load('2026-03-16T08:30:00Z', '2026-03-01', '2026-03-16', `* REPLACE (oxygen_mg_l * 10 AS oxygen_mg_l), 'plate' AS method`);
  await timeIs(ports, table, '2026-03-16T11:45:00Z');
  await restore(table, { kind: 'number', number: 8n }, commitPorts(ports, 'R. Holt'));
  await load('2026-03-17T08:30:00Z', '2026-03-01', '2026-03-16', method);
  await compact(ports, table);
  await load('2026-03-31T22:30:00Z', '2026-03-16', '2026-04-01', method);
  await table.settled();
}

async function writeBottles(ports: DemoPorts, table: DeltaTable, sql: string): Promise<WrittenFile> {
  const state = await latestState(table);
  const schema = schemaOf(state.metadata, table.name);
  const columns = schema.fields.map((each) => each.name).join(', ');
  return ports.rowFiles.write({ sql: `SELECT ${columns} FROM (${sql})`, path: `${table.root}/part-${ports.ids.uuid()}.parquet`, schema });
}

/** Nitrate of one site in December had been read off by a fifth too high; the file that holds it is written anew. */
async function correctNitrate(ports: DemoPorts, table: DeltaTable): Promise<void> {
  await timeIs(ports, table, '2026-01-12T13:20:00Z');
  const base = await latestState(table);
  const replaced = [...(await allFiles(base.files)).keys()].at(-1)!;
  const wrong = `site = 'Brackle Point' AND sampled_at >= TIMESTAMPTZ '2025-12-01 00:00:00+00' AND nitrate_umol_l IS NOT NULL`;
  const source = `read_parquet('${ports.localRoot}/${table.root}/${replaced}')`;
  const counted = await ports.run(`SELECT count(*) FROM ${source} WHERE ${wrong}`);
  const file = await writeBottles(ports, table, `SELECT * REPLACE (CASE WHEN ${wrong} THEN round(nitrate_umol_l * 0.8, 2) ELSE nitrate_umol_l END AS nitrate_umol_l) FROM ${source} ORDER BY bottle_id`);
  await changeRows(table, {
    base, replaced: [replaced], files: [file], operation: 'UPDATE',
    parameters: { predicate: wrong }, metrics: { numUpdatedRows: Number(counted.rows[0]![0]), numAddedFiles: 1, numRemovedFiles: 1 },
  }, commitPorts(ports, 'R. Holt'));
}

async function compact(ports: DemoPorts, table: DeltaTable): Promise<void> {
  await timeIs(ports, table, '2026-03-20T22:00:00Z');
  const base = await latestState(table);
  const replaced = [...(await allFiles(base.files)).keys()];
  const sources = replaced.map((file) => `'${ports.localRoot}/${table.root}/${file}'`).join(', ');
  const file = await writeBottles(ports, table, `SELECT * FROM read_parquet([${sources}], union_by_name = true) ORDER BY bottle_id`);
  await changeRows(table, {
    base, replaced, files: [file], operation: 'OPTIMIZE', parameters: { predicate: '[]' }, metrics: { numAddedFiles: 1, numRemovedFiles: replaced.length },
  }, commitPorts(ports, 'upkeep'));
}

const LIMITS: TableSchema = {
  fields: [field('measure', 'string'), field('site', 'string'), field('unit', 'string'), field('lowest', 'double'), field('highest', 'double'), field('note', 'string')],
};

export async function refineLimits(ports: DemoPorts): Promise<void> {
  const table = new DeltaTable(ports.store, 'refined/water_limits', 'refined.water_limits');
  await ports.registerDelta('refined.water_limits', table.root, 'Lowest and highest allowed value of each measure; without a site it holds for the whole bay.');
  await timeIs(ports, table, '2025-01-20T10:00:00Z');
  await createDeltaTable(table, { schema: LIMITS, properties: { 'delta.enableInCommitTimestamps': 'true' } }, commitPorts(ports, 'M. Reed'));
  await timeIs(ports, table, '2025-01-20T10:05:00Z');
  const partition: Record<string, Value | null> = {};
  const file = await ports.rowFiles.write({ sql: 'SELECT * FROM demo.limits ORDER BY measure, site NULLS FIRST', path: `${table.root}/part-${ports.ids.uuid()}.parquet`, schema: LIMITS, partition });
  await appendDelta(table, [file], commitPorts(ports, 'M. Reed'));
  await table.settled();
}
