/** Classic checkpoints in parts: Delta transaction log protocol, "Checkpoints" (multi-part). Made by hand, since few writers make them. */
import { readFileSync } from 'node:fs';
import { describe, expect, it } from 'vitest';
import { MemoryStore } from '../storage/memory-store';
import { toBytes } from '../storage/object-store';
import { LATEST } from '../table/contract';
import { DeltaTable } from './table';

/** The checkpoint that the independent library wrote for version 5 of its table. */
const whole = readFileSync(new URL('../../fixtures/delta/history/_delta_log/00000000000000000005.checkpoint.parquet', import.meta.url));
const part = (n: number, of: number) => `t/_delta_log/00000000000000000005.checkpoint.${String(n).padStart(10, '0')}.${String(of).padStart(10, '0')}.parquet`;
const commit = '{"add":{"path":"late.parquet","partitionValues":{"site":"x"},"size":1,"modificationTime":0,"dataChange":true}}';

async function tableWith(files: Record<string, Uint8Array>): Promise<DeltaTable> {
  const store = new MemoryStore();
  await store.put('t/_delta_log/00000000000000000006.json', toBytes(commit));
  for (const [path, bytes] of Object.entries(files)) await store.put(path, bytes);
  return new DeltaTable(store, 't', 'ns.t');
}
const count = async (table: DeltaTable) => (await (await table.snapshot(LATEST)).files()).length;

describe('a checkpoint', () => {
  it('stands in the place of commits that are gone', async () => {
    expect(await count(await tableWith({ 't/_delta_log/00000000000000000005.checkpoint.parquet': whole }))).toBe(6);
  });

  it('counts in parts only when every part is there', async () => {
    const complete = await tableWith({ [part(1, 2)]: whole, [part(2, 2)]: whole });
    expect(await count(complete)).toBe(6);
    const incomplete = await tableWith({ [part(1, 2)]: whole });
    await expect(incomplete.snapshot(LATEST)).rejects.toMatchObject({ kind: 'bad-file', message: expect.stringContaining('no checkpoint stands in its place') });
  });

  it('that is damaged is named', async () => {
    const table = await tableWith({ 't/_delta_log/00000000000000000005.checkpoint.parquet': whole.subarray(0, 500) });
    await expect(table.snapshot(LATEST)).rejects.toMatchObject({ kind: 'bad-file', details: { path: 't/_delta_log/00000000000000000005.checkpoint.parquet' } });
  });
});
