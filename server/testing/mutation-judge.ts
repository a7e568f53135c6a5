/**
 * Files of every kind that we read, changed at random, read through every door: each ends in an answer or in a refusal that
 * names the file, says what to do and is in our own words; none brings anything down or goes on for long.
 */
import { cpSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { gzipSync } from 'node:zlib';
import { DeltaTable } from '../../core/delta/table';
import { hintOf, LakeError } from '../../core/errors';
import { FilePointer } from '../../core/iceberg/pointer';
import { IcebergTable } from '../../core/iceberg/table';
import { parseTypeName } from '../../core/schema/type-names';
import { field } from '../../core/schema/types';
import { FolderTable, MemoryListings } from '../../core/folder/table';
import { fullOptions } from '../../core/folder/read-options';
import type { LakeTable } from '../../core/table/contract';
import { seeded } from '../../core/testing/driven-store';
import type { EngineCalls } from '../engine/engine';
import { EngineIcebergReaders } from '../lake/iceberg-readers';
import { Inspector } from '../lake/inspect';
import { LocalFiles } from '../lake/local-files';
import { lookAtFile } from '../lake/look';
import { ManifestCache } from '../lake/manifest-cache';
import { projectRoot } from '../program-files';
import { DiskStore } from '../storage/disk-store';
import { asStorage, readTable } from './lake-tools';

export interface MutationReport {
  tried: number;
  answered: number;
  refused: number;
  /** What must not be, with how to make it again. */
  faults: string[];
}

export interface MutationTools {
  engine: EngineCalls;
  /** Empty; everything is made in it. */
  folder: string;
}

const TOO_LONG_MS = 5000;
/** Texts of libraries and of the language itself. */
const RAW = /TProtocolException|Cannot read propert|Cannot destructure|Offset is outside|is not a function|is not iterable|\bundefined\b|\[object |Invalid typed array|RangeError|TypeError|Unexpected (token|end of JSON)|Cannot (convert|mix) .*BigInt|Invalid array length|out of (range|bounds)|INTERNAL Error|null pointer|\bat Object\./i;

type Random = () => number;

/** Reads everything of a table that a page, a query or a crawl would. */
interface Subject {
  name: string;
  /** Folder or file, relative to the judge's folder. */
  place: string;
  read(): Promise<unknown>;
}

export async function judgeMutations({ engine, folder }: MutationTools, count: number, seed: number): Promise<MutationReport> {
  const random = seeded(seed);
  const lake = path.join(folder, 'lake');
  mkdirSync(lake, { recursive: true });
  const subjects = [...tables(engine, lake, folder), ...plainFiles(engine, lake, folder)];
  const report: MutationReport = { tried: 0, answered: 0, refused: 0, faults: [] };
  const kinds = new Set<string>();
  for (let n = 0; n < count; n++) {
    const subject = subjects[n % subjects.length]!;
    const files = filesUnder(path.join(lake, subject.place));
    const file = files[Math.floor(random() * files.length)]!;
    const whole = readFileSync(file);
    const { bytes, how } = mutated(whole, random);
    writeFileSync(file, bytes);
    const inside = path.relative(lake, file);
    const started = performance.now();
    const outcome = await subject.read().then(() => undefined, (error: unknown) => error);
    const millis = performance.now() - started;
    writeFileSync(file, whole);
    report.tried++;
    const fault = faultOf(outcome, subject, inside);
    if (outcome === undefined) report.answered++;
    else report.refused++;
    const told = fault ?? (millis > TOO_LONG_MS ? `took ${Math.round(millis)} ms` : undefined);
    if (told !== undefined) {
      // One of each kind is enough to mend it.
      const kind = `${subject.name}: ${told.replace(/\d+/g, '#').slice(0, 100)}`;
      if (!kinds.has(kind)) report.faults.push(`${subject.name}, ${inside}, ${how} (seed ${seed}, number ${n}): ${told}`);
      kinds.add(kind);
    }
  }
  return report;
}

function faultOf(error: unknown, subject: Subject, file: string): string | undefined {
  if (error === undefined) return undefined;
  if (!(error instanceof LakeError)) return `no refusal of ours: ${error instanceof Error ? (error.stack ?? error.message).split('\n').slice(0, 5).join(' | ') : String(error)}`;
  if (error.kind === 'unavailable') return `it brought the engine down: ${error.message}`;
  if (RAW.test(error.message)) return `the words of a library: ${error.message}`;
  const names = [path.basename(file), subject.name, subject.place];
  if (!names.some((each) => error.message.includes(each)) && error.details.path === undefined && error.details.table === undefined) return `names no file: ${error.message}`;
  return hintOf(error) === undefined ? `says not what to do: ${error.message}` : undefined;
}

function tables(engine: EngineCalls, lake: string, folder: string): Subject[] {
  const made: Subject[] = [];
  const store = new DiskStore(lake);
  const storage = asStorage(store);
  let opened = 0;
  const read = async (table: LakeTable) => {
    await table.history();
    await readTable(engine, store, table);
    await table.snapshot({ kind: 'number', number: 1n }).then((snapshot) => snapshot.files());
  };
  for (const name of ['evolved', 'history', 'hand-vectors', 'hand-checkpoints', 'hand-mapped', 'partitions']) {
    cpSync(path.join(projectRoot, 'fixtures/delta', name), path.join(lake, 'delta', name), { recursive: true });
    made.push({ name: `delta/${name}`, place: path.join('delta', name), read: () => read(new DeltaTable(store, `delta/${name}`, `delta/${name}`)) });
  }
  for (const name of ['evolved', 'hand-deletes', 'hand-vectors', 'hand-avro', 'hand-mapped', 'refs', 'types']) {
    cpSync(path.join(projectRoot, 'fixtures/iceberg', name), path.join(lake, 'iceberg', name), { recursive: true });
    made.push({ name: `iceberg/${name}`, place: path.join('iceberg', name), read: async () => {
      const scratch = path.join(folder, 'scratch', String(opened++));
      const manifests = new ManifestCache(path.join(scratch, 'manifests'));
      const readers = new EngineIcebergReaders(engine, new LocalFiles(path.join(scratch, 'files'), 1e9, engine), storage, manifests);
      try {
        await read(new IcebergTable(store, `iceberg/${name}`, `iceberg/${name}`, new FilePointer(store, `iceberg/${name}`), readers));
      } finally {
        await manifests.close();
        rmSync(scratch, { recursive: true, force: true });
      }
    } });
  }
  return made;
}

const ROWS = Array.from({ length: 40 }, (_, n) => ({ id: n, name: `row ${n}`, day: `2026-03-${String((n % 28) + 1).padStart(2, '0')}`, x: n / 7, in: { a: n, b: [n, null] } }));
const CSV = `id,name,day,x\n${ROWS.map((row) => `${row.id},"${row.name}",${row.day},${row.x}`).join('\n')}\n`;
const LINES = `${ROWS.map((row) => JSON.stringify(row)).join('\n')}\n`;

function plainFiles(engine: EngineCalls, lake: string, folder: string): Subject[] {
  const store = new DiskStore(lake);
  const storage = asStorage(store);
  const parquet = readdirSync(path.join(lake, 'iceberg/types'), { recursive: true, encoding: 'utf8' }).find((each) => each.endsWith('.parquet'))!;
  const contents: Record<string, Buffer> = {
    'rows.csv': Buffer.from(CSV), 'rows.csv.gz': gzipSync(CSV), 'rows.jsonl': Buffer.from(LINES), 'rows.json': Buffer.from(JSON.stringify(ROWS)), 'rows.jsonl.gz': gzipSync(LINES),
    'rows.xml': Buffer.from(`<?xml version="1.0"?><all>${ROWS.map((row) => `<row id="${row.id}"><name>${row.name}</name><day>${row.day}</day></row>`).join('')}</all>`),
    'rows.txt': Buffer.from(ROWS.map((row) => `${String(row.id).padEnd(8)}${row.name.padEnd(12)}${row.day}`).join('\n')), 'rows.log': Buffer.from(ROWS.map((row) => `${row.day}T06:00:00Z INFO ${row.name}`).join('\n')),
    'rows.parquet': readFileSync(path.join(lake, 'iceberg/types', parquet)), 'rows.avro': readFileSync(path.join(projectRoot, 'fixtures/plain/readings-deflate.avro')),
  };
  mkdirSync(path.join(lake, 'plain'));
  let opened = 0;
  return Object.entries(contents).map(([name, bytes]): Subject => {
    const place = path.join('plain', name);
    writeFileSync(path.join(lake, place), bytes);
    return { name, place, read: async () => {
      const scratch = path.join(folder, 'scratch', String(opened++));
      const inspector = new Inspector(engine, new LocalFiles(scratch, 1e9, engine));
      try {
        const looked = await lookAtFile(storage, place, inspector);
        if (looked.problem !== null) throw new LakeError('bad-file', looked.problem, { path: place });
        if (name.endsWith('.parquet') || name.endsWith('.csv')) {
          const options = fullOptions({ format: name.endsWith('.csv') ? 'csv' : 'parquet' });
          const fields = name.endsWith('.csv') ? ['id', 'name', 'day', 'x'].map((each) => field(each, parseTypeName('varchar'))) : looked.columns.map((each) => field(each.name, parseTypeName(each.type)));
          await readTable(engine, store, new FolderTable(store, 'plain', 'plain', { pattern: name, options, fields, partitionColumns: [] }, new MemoryListings()));
        }
      } finally {
        inspector.footers.close();
        rmSync(scratch, { recursive: true, force: true });
      }
    } };
  });
}

function filesUnder(place: string): string[] {
  if (!statSync(place).isDirectory()) return [place];
  return readdirSync(place, { recursive: true, withFileTypes: true }).filter((each) => each.isFile()).map((each) => path.join(each.parentPath, each.name)).sort();
}

function mutated(whole: Buffer, random: Random): { bytes: Buffer; how: string } {
  const at = () => Math.floor(random() * (whole.length + 1));
  const copy = Buffer.from(whole);
  switch (Math.floor(random() * 8)) {
    case 0:
      return { bytes: copy.subarray(0, at()), how: 'cut short' };
    case 1:
    case 2: {
      const flips = 1 + Math.floor(random() * 8);
      for (let n = 0; n < flips && copy.length > 0; n++) copy[Math.floor(random() * copy.length)]! ^= 1 << Math.floor(random() * 8);
      return { bytes: copy, how: `${flips} bits flipped` };
    }
    case 3: {
      const [from, length, to] = [at(), Math.floor(random() * 200), at()];
      return { bytes: Buffer.concat([whole.subarray(0, to), whole.subarray(from, from + length), whole.subarray(to)]), how: `${length} bytes from ${from} put in at ${to}` };
    }
    case 4: {
      const to = at();
      return { bytes: Buffer.concat([whole.subarray(0, to), Buffer.alloc(70_000, Math.floor(random() * 256)), whole.subarray(to)]), how: `70,000 bytes put in at ${to}` };
    }
    case 5: {
      const to = at();
      const deep = Buffer.from(random() < 0.5 ? '['.repeat(5000) : '<a>'.repeat(2000));
      return { bytes: Buffer.concat([whole.subarray(0, to), deep, whole.subarray(to)]), how: `nested deep at ${to}` };
    }
    case 6: {
      const text = whole.toString('latin1');
      const numbers = [...text.matchAll(/\d+/g)];
      if (numbers.length === 0) return { bytes: Buffer.alloc(0), how: 'emptied' };
      const chosen = numbers[Math.floor(random() * numbers.length)]!;
      const odd = ['1e400', '-1', '99999999999999999999', '0.5', '4294967296', 'null', '"x"', '{}', '[]'][Math.floor(random() * 9)]!;
      return { bytes: Buffer.from(text.slice(0, chosen.index) + odd + text.slice(chosen.index + chosen[0].length), 'latin1'), how: `the number at ${chosen.index} made ${odd}` };
    }
    default: {
      const [from, length] = [at(), Math.floor(random() * 400)];
      return { bytes: Buffer.concat([whole.subarray(0, from), whole.subarray(from + length)]), how: `${length} bytes taken out at ${from}` };
    }
  }
}
