/**
 * Several writers of one Iceberg table, in every order that a seed gives, through the catalog's pointer and by the files
 * alone. The judge takes the chain of metadata files apart by itself: each is made from the one before, every acknowledged
 * append is a snapshot of the line, and each snapshot has the files of its parent and its own.
 */
import { describe, expect, it } from 'vitest';
import { LakeError } from '../errors';
import { field } from '../schema/types';
import { MemoryStore } from '../storage/memory-store';
import { toText } from '../storage/object-store';
import { LATEST } from '../table/contract';
import { DrivenStore, Scheduler } from '../testing/driven-store';
import { testPorts, writtenFile } from '../testing/ports';
import { append, createIcebergTable, setProperties } from './operations';
import { CatalogPointer, COPIES_KEPT, FilePointer, memoryCell, type PointerCell } from './pointer';
import { IcebergTable } from './table';

interface Raw {
  'current-snapshot-id': number;
  'metadata-log': { 'metadata-file': string }[];
  snapshots: { 'snapshot-id': number; 'parent-snapshot-id'?: number; 'sequence-number': number; summary: Record<string, string> }[];
  properties?: Record<string, string>;
}

async function problemsOf(seed: number, { byCatalog = true, shared = true, clients = 4, rounds = 4 } = {}): Promise<string[]> {
  const scheduler = new Scheduler(seed);
  const memory = new MemoryStore();
  const store = new DrivenStore(memory, scheduler);
  const inner = memoryCell();
  /** The catalog answers when it is let. */
  const cell: PointerCell = {
    read: async () => {
      await scheduler.pause();
      return inner.read();
    },
    swap: async (expected, next) => {
      await scheduler.pause();
      const done = await inner.swap(expected, next);
      await scheduler.pause();
      return done;
    },
  };
  const open = (through: MemoryStore | DrivenStore, id: number) => new IcebergTable(through, 't', 't', byCatalog ? new CatalogPointer(through, 't', through === memory ? inner : cell, testPorts(900 + id).ids) : new FilePointer(through, 't'));
  await createIcebergTable(open(memory, 0), { schema: { fields: [field('n', 'long')] }, properties: { 'commit.manifest.min-count-to-merge': '4' } }, testPorts(1));
  const one = open(store, 99);
  const problems: string[] = [];
  const acknowledged: { path: string; id: string }[] = [];
  const reads: { id: string; paths: string[] }[] = [];
  const client = async (id: number) => {
    const table = shared ? one : open(store, id);
    for (let round = 0; round < rounds; round++) {
      const path = `c${id}-r${round}`;
      try {
        if (round % 4 === 3) await setProperties(table, { [path]: 'set' }, testPorts(100 + id * 10 + round));
        else acknowledged.push({ path, id: String((await append(table, [writtenFile(`t/data/${path}`, 1, 9)], testPorts(100 + id * 10 + round)))['snapshot-id']) });
        const seen = await table.snapshot(LATEST);
        if (seen.snapshotId) reads.push({ id: seen.snapshotId, paths: (await seen.files()).map((file) => file.path.slice('t/data/'.length)) });
      } catch (error) {
        if (!(error instanceof LakeError && error.kind === 'conflict')) problems.push(`client ${id}, round ${round}: ${(error as Error).stack}`);
      }
    }
  };
  await scheduler.run(Promise.all(Array.from({ length: clients }, (_, id) => client(id))));
  const current = byCatalog ? (await inner.read())! : (await new FilePointer(memory, 't').current())!;
  const metadata = JSON.parse(toText(await memory.read(current))) as Raw;
  const byId = new Map(metadata.snapshots.map((each) => [String(each['snapshot-id']), each]));
  const line: string[] = [];
  for (let at = byId.get(String(metadata['current-snapshot-id'])); at; at = byId.get(String(at['parent-snapshot-id']))) line.unshift(String(at['snapshot-id']));
  if (line.length !== metadata.snapshots.length || line.length !== acknowledged.length) problems.push(`${acknowledged.length} appends were acknowledged; the line has ${line.length} snapshots of ${metadata.snapshots.length}`);
  for (const [index, id] of line.entries()) if (byId.get(id)!['sequence-number'] !== index + 1) problems.push(`snapshot ${index + 1} of the line has the sequence number ${byId.get(id)!['sequence-number']}`);
  const pathOf = new Map(acknowledged.map(({ path, id }) => [id, path]));
  for (const { path, id } of acknowledged) if (!line.includes(id)) problems.push(`${path} was acknowledged and is not on the line`);
  for (const { id, paths } of reads) {
    const expected = line.slice(0, line.indexOf(id) + 1).map((each) => pathOf.get(each)).sort().join(' ');
    if (paths.sort().join(' ') !== expected) problems.push(`snapshot ${id} reads ${paths.join(' ')}, where ${expected} is right`);
  }
  if (metadata['metadata-log'].length !== clients * rounds) problems.push(`the log has ${metadata['metadata-log'].length} states before this one, where ${clients * rounds} were committed`);
  const files = (await memory.list('t/metadata')).map(({ path }) => path.slice('t/metadata/'.length));
  const copies = files.filter((name) => /^v\d+\.metadata\.json$/.test(name));
  if (byCatalog && shared && copies.length > COPIES_KEPT) problems.push(`${copies.length} copies of metadata are left: ${copies.join(', ')}`);
  const logged = new Set([current, ...metadata['metadata-log'].map((each) => each['metadata-file'])].map((path) => path.slice(path.lastIndexOf('/') + 1)));
  const left = files.filter((name) => name.endsWith('.metadata.json') && !logged.has(name) && !copies.includes(name));
  if (left.length > 0) problems.push(`metadata files of lost races are left: ${left.join(', ')}`);
  return problems;
}

describe('several writers of one Iceberg table', () => {
  const SEEDS = Array.from({ length: 25 }, (_, index) => index + 1);

  it.each([['of one process, by the catalog', true, true], ['of several processes, by the catalog', true, false], ['by its files alone', false, false]])('%s: lose and double nothing', async (_, byCatalog, shared) => {
    for (const seed of SEEDS) expect([seed, await problemsOf(seed, { byCatalog, shared })]).toEqual([seed, []]);
  }, 60_000);
});
