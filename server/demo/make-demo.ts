/** At first start: makes the demo lake and registers what is refined and published. Landing is left to be crawled. */
import { existsSync, mkdirSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { makeLake } from '../../demo/make-lake';
import { DemoClock, SeededIds, type DemoPorts } from '../../demo/ports';
import { CatalogPointer } from '../../core/iceberg/pointer';
import { createRelation, readPointer, swapPointer } from '../catalog/relations';
import { EngineRowFiles } from '../engine/row-files';
import type { Services } from '../services';
import { DiskStore } from '../storage/disk-store';

const STORAGE = 'tern-bay';

export async function makeDemo({ config, database, lake, workEngine, readiness }: Services, say: (line: string) => void): Promise<void> {
  const location = path.join(config.home, 'lake', STORAGE);
  const complete = path.join(config.home, 'lake', `.${STORAGE}-complete`);
  if (existsSync(complete)) return;
  const started = Date.now();
  await forgetHalfMade(database);
  rmSync(location, { recursive: true, force: true });
  mkdirSync(location, { recursive: true });
  const clock = new DemoClock();
  const ids = new SeededIds(20260331);
  const store = new DiskStore(location, { stampWith: clock });
  const { storage } = await lake.addStorage({ name: STORAGE, kind: 'folder', location: store.root, settings: null, secret: null }, config.person);
  let told = '';
  const register = (name: string, format: 'delta' | 'iceberg', place: string, description: string) => {
    const [namespace, table] = name.split('.') as [string, string];
    return createRelation(database, { namespace, name: table, kind: 'table', format, storageId: storage.id, location: place, managed: true, definition: { kind: 'lake', pointer: 'catalog' }, description }, config.person);
  };
  const ports: Omit<DemoPorts, 'wantDay'> = {
    run: (sql) => workEngine.call('run', { sql }),
    localRoot: store.root,
    store,
    rowFiles: new EngineRowFiles(workEngine, store),
    clock,
    ids,
    scale: config.scale,
    async icebergPointer(name, place, description) {
      const id = await register(name, 'iceberg', place, description);
      return new CatalogPointer(store, place, { read: () => readPointer(database, id), swap: (expected, next) => swapPointer(database, id, expected, next) }, ids);
    },
    async registerDelta(name, place, description) {
      await register(name, 'delta', place, description);
    },
    async registerView(name, sql, description) {
      const [namespace, view] = name.split('.') as [string, string];
      await createRelation(database, { namespace, name: view, kind: 'view', definition: { kind: 'view', sql }, description }, config.person);
    },
    progress(doing, done, total) {
      readiness.progress(doing, done, total);
      if (doing !== told) say(`Making the demo lake: ${doing.toLowerCase()} …`);
      told = doing;
    },
  };
  // Hundreds of small files: one thread each, several side by side, is quicker than many threads on one.
  await workEngine.call('run', { sql: 'SET threads = 1' });
  await makeLake(ports);
  await workEngine.call('run', { sql: `SET threads = ${config.engineThreads}` });
  writeFileSync(complete, 'The demo lake was made whole.\n');
  say(`The demo lake is ready (${((Date.now() - started) / 1000).toFixed(1)} s).`);
}

/** A start that was cut off leaves names that point at half a lake. */
async function forgetHalfMade(database: Services['database']): Promise<void> {
  await database.transaction(async (sql) => {
    const [storage] = await sql.query<{ id: number }>('SELECT id FROM storage WHERE name = $1', [STORAGE]);
    if (!storage) return;
    await sql.query("DELETE FROM relation WHERE storage_id = $1 OR (kind = 'view' AND namespace_id IN (SELECT id FROM namespace WHERE name = 'published'))", [storage.id]);
    await sql.query('DELETE FROM storage WHERE id = $1', [storage.id]);
  });
}
