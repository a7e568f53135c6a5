/** Commits on a real disk by processes that are killed, and by several at once. `npm run soak` does the same a thousand times. */
import { fork } from 'node:child_process';
import { mkdirSync } from 'node:fs';
import path from 'node:path';
import { afterAll, describe, expect, it } from 'vitest';
import { createDeltaTable } from '../../core/delta/operations';
import { DeltaTable } from '../../core/delta/table';
import { createIcebergTable } from '../../core/iceberg/operations';
import { FilePointer } from '../../core/iceberg/pointer';
import { IcebergTable } from '../../core/iceberg/table';
import { field } from '../../core/schema/types';
import { LATEST, type LakeTable } from '../../core/table/contract';
import { testPorts } from '../../core/testing/ports';
import { projectRoot } from '../program-files';
import { temporaryFolder } from '../testing/lake-tools';
import { DiskStore } from './disk-store';

const folder = temporaryFolder();
afterAll(folder.remove);
const schema = { fields: [field('n', 'long')] };
let made = 0;

async function newTable(format: string): Promise<string> {
  const root = path.join(folder.path, String(made++));
  mkdirSync(root);
  const store = new DiskStore(root);
  if (format === 'delta') await createDeltaTable(new DeltaTable(store, 't', 't'), { schema }, testPorts());
  else await createIcebergTable(new IcebergTable(store, 't', 't', new FilePointer(store, 't')), { schema }, testPorts());
  return root;
}
/** A reader that has seen nothing yet. */
function reader(root: string, format: string): LakeTable {
  const store = new DiskStore(root);
  return format === 'delta' ? new DeltaTable(store, 't', 't') : new IcebergTable(store, 't', 't', new FilePointer(store, 't'));
}
async function state(root: string, format: string): Promise<{ version: number; rows: number }> {
  const snapshot = await reader(root, format).snapshot(LATEST);
  return { version: snapshot.version, rows: (await snapshot.files()).reduce((sum, file) => sum + file.rows!, 0) };
}
function writer(root: string, format: string, name: number, appends: number, dieAt?: number): Promise<{ calls: number | undefined; signal: string | null }> {
  const child = fork(path.join(projectRoot, 'server/testing/commit-in-process.ts'), [root, format, String(name), String(appends), ...(dieAt ? [String(dieAt)] : [])], { execArgv: ['--import', 'tsx'], cwd: projectRoot });
  let calls: number | undefined;
  child.on('message', (message: { calls: number }) => (calls = message.calls));
  return new Promise((resolve) => child.on('exit', (_code, signal) => resolve({ calls, signal })));
}

describe.each(['delta', 'iceberg'])('%s on disk', (format) => {
  it('is whole after its writer was killed at any call', async () => {
    const { calls } = await writer(await newTable(format), format, 0, 1);
    expect(calls).toBeGreaterThan(2);
    const killed = Array.from({ length: calls! }, (_, index) => index + 1);
    for (let i = 0; i < killed.length; i += 2) {
      await Promise.all(killed.slice(i, i + 2).map(async (dieAt) => {
        const root = await newTable(format);
        expect((await writer(root, format, 1, 1, dieAt)).signal).toBe('SIGKILL');
        const { version, rows } = await state(root, format);
        expect(rows, `killed at call ${dieAt}`).toBe(version);
      }));
    }
  }, 60_000);

  it('loses no commit of eight processes', async () => {
    const root = await newTable(format);
    const done = await Promise.all(Array.from({ length: 8 }, (_, name) => writer(root, format, name + 1, 3)));
    expect(done.every(({ calls }) => calls !== undefined)).toBe(true);
    expect(await state(root, format)).toEqual({ version: 24, rows: 24 });
  }, 60_000);
});
