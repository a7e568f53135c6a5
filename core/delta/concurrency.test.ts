/**
 * Several writers of one Delta table, in every order that a seed gives, held against the log itself: what was acknowledged
 * is in it, no version is missing, and what readers and checkpoints say of each version is what its commits come to. The
 * judge reads the commit files by itself and shares no code with the product.
 */
import { describe, expect, it } from 'vitest';
import { field } from '../schema/types';
import { MemoryStore } from '../storage/memory-store';
import { toText } from '../storage/object-store';
import { LATEST } from '../table/contract';
import { DrivenStore, Scheduler } from '../testing/driven-store';
import { testPorts, writtenFile } from '../testing/ports';
import { LakeError } from '../errors';
import type { Action } from './actions';
import { writeCheckpoint } from './checkpoint-write';
import { append, changeRows, createDeltaTable, latestState } from './operations';
import { DeltaTable } from './table';

interface Acknowledged {
  version: number;
  path: string;
}

/** The live paths of every version, from the commit files alone. */
async function versionsByLog(store: MemoryStore): Promise<Set<string>[]> {
  const files = (await store.list('t/_delta_log')).map(({ path }) => /(\d{20})\.json$/.exec(path)).filter((found) => found !== null);
  const versions: Set<string>[] = [];
  for (const [index, [, digits]] of files.entries()) {
    if (Number(digits) !== index) throw new Error(`the log has version ${Number(digits)} where ${index} should stand`);
    const live = new Set(versions.at(-1));
    for (const line of toText(await store.read(`t/_delta_log/${digits}.json`)).trim().split('\n')) {
      const action = JSON.parse(line) as { add?: { path: string }; remove?: { path: string } };
      if (action.remove) live.delete(action.remove.path);
      if (action.add) live.add(action.add.path);
    }
    versions.push(live);
  }
  return versions;
}

/** What the seed's interleaving breaks; empty where nothing is. `shared`: the clients are of one process and share a table object. */
async function problemsOf(seed: number, { clients = 4, rounds = 4, shared = true } = {}): Promise<string[]> {
  const scheduler = new Scheduler(seed);
  const memory = new MemoryStore();
  const store = new DrivenStore(memory, scheduler);
  await createDeltaTable(new DeltaTable(memory, 't', 't'), { schema: { fields: [field('n', 'long')] }, properties: { 'delta.checkpointInterval': '3' } }, testPorts(1));
  const one = new DeltaTable(store, 't', 't');
  const problems: string[] = [];
  const acknowledged: Acknowledged[] = [];
  const reads: { version: number; paths: string[] }[] = [];
  const checkpoints: { version: number; paths: string[] }[] = [];
  const client = async (id: number) => {
    const table = shared ? one : new DeltaTable(store, 't', 't');
    const ports = testPorts(id + 10);
    for (let round = 0; round < rounds; round++) {
      const path = `c${id}-r${round}`;
      const before = Math.max(-1, ...acknowledged.map((each) => each.version));
      try {
        if (round % 3 === 2) {
          const base = await latestState(table);
          const mine = acknowledged.find((each) => each.path.startsWith(`c${id}-`));
          const replaced = mine ? [...(await base.files.get([mine.path])).keys()] : [];
          acknowledged.push({ path, version: await changeRows(table, { base, replaced, files: [writtenFile(`t/${path}`, 1, 9)], operation: 'UPDATE', parameters: {}, metrics: {}, read: { kind: 'files' } }, ports) });
        } else acknowledged.push({ path, version: await append(table, [writtenFile(`t/${path}`, 1, 9)], ports) });
        await table.settled();
        const seen = await table.snapshot(LATEST);
        if (seen.version < before) problems.push(`after version ${before} was acknowledged, the newest was said to be ${seen.version}`);
        reads.push({ version: seen.version, paths: (await seen.files()).map((file) => file.path.slice(2)) });
        const named = await table.snapshot({ kind: 'number', number: BigInt(acknowledged.at(-1)!.version) });
        reads.push({ version: named.version, paths: (await named.files()).map((file) => file.path.slice(2)) });
        const state = await latestState(table);
        const kept: string[] = [];
        await writeCheckpoint(table, state, { ...ports, files: { write: async (_, actions) => ({ bytes: await keepPaths(actions, kept) }) } });
        checkpoints.push({ version: state.version, paths: kept });
      } catch (error) {
        if (!(error instanceof LakeError && error.kind === 'conflict')) problems.push(`client ${id}, round ${round}: ${(error as Error).message}`);
      }
    }
  };
  await scheduler.run(Promise.all(Array.from({ length: clients }, (_, id) => client(id))));
  const versions = await versionsByLog(memory).catch((error: Error) => void problems.push(error.message));
  if (!versions) return problems;
  for (const { version, path } of acknowledged) if (!versions[version]?.has(path)) problems.push(`${path} was acknowledged as version ${version}, which lacks it`);
  for (const [what, list] of [['reading', reads], ['a checkpoint of', checkpoints]] as const) {
    for (const { version, paths } of list) {
      const expected = [...(versions[version] ?? [])].sort().join(' ');
      if (paths.sort().join(' ') !== expected) problems.push(`${what} version ${version} has ${paths.join(' ')}, its commits come to ${expected}`);
    }
  }
  return problems;
}

async function keepPaths(actions: AsyncIterable<Action>, into: string[]): Promise<number> {
  for await (const action of actions) if ('add' in action) into.push(action.add.path);
  return into.length;
}

describe('several writers of one Delta table', () => {
  const SEEDS = Array.from({ length: 60 }, (_, index) => index + 1);

  it('lose and double nothing when they share what one process knows', async () => {
    for (const seed of SEEDS) expect([seed, await problemsOf(seed)]).toEqual([seed, []]);
  });

  it('lose and double nothing as processes of their own', async () => {
    for (const seed of SEEDS) expect([seed, await problemsOf(seed, { shared: false })]).toEqual([seed, []]);
  });
});
