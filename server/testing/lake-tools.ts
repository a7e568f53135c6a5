/** A folder that is gone after the test, and reading a table's state through the engine as a query does. */
import { mkdtempSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { randomUUID } from 'node:crypto';
import { FilePointer, type MetadataPointer } from '../../core/iceberg/pointer';
import { IcebergTable } from '../../core/iceberg/table';
import { TRUE, type Predicate } from '../../core/scan/predicate';
import { filesToRead } from '../../core/scan/plan';
import { LATEST, type AsOf, type LakeTable } from '../../core/table/contract';
import type { EngineCalls } from '../engine/engine';
import { loadRowFilters, scanOf } from '../engine/scan-sql';
import { namingTheFile } from '../lake/blame';
import { csvHeaders } from '../lake/csv-headers';
import { rootsOf } from '../lake/inspect';
import type { OpenStorage } from '../lake/lake';
import { EngineIcebergReaders } from '../lake/iceberg-readers';
import { LocalFiles } from '../lake/local-files';
import { ManifestCache } from '../lake/manifest-cache';
import { translateError } from '../engine/translate';
import { DiskStore } from '../storage/disk-store';
import type { LakeStore } from '../storage/lake-store';

export function temporaryFolder(): { path: string; remove: () => void } {
  const folder = mkdtempSync(path.join(os.tmpdir(), 'kind-harbor-'));
  return { path: folder, remove: () => rmSync(folder, { recursive: true, force: true }) };
}

/** A store that says it lies somewhere else, as a served or moved lake does. */
export function storeAt(root: string, uri?: string): DiskStore {
  const store = new DiskStore(root);
  return uri === undefined ? store : Object.assign(store, { uri });
}

/** A store as a connected storage named `bay`. */
export function asStorage(store: LakeStore): OpenStorage {
  return { store, storage: { id: 1, name: 'bay', kind: store.root === undefined ? 's3' : 'folder', location: store.uri, settings: null, secret: null } };
}

/** An Iceberg table of a store as the server reads it. */
export function icebergTableAt(engine: EngineCalls, store: LakeStore, root: string, pointer?: MetadataPointer): IcebergTable {
  const scratch = temporaryFolder().path;
  const storage = asStorage(store);
  return new IcebergTable(store, root, root, pointer ?? new FilePointer(store, root), new EngineIcebergReaders(engine, new LocalFiles(path.join(scratch, 'files'), 1e9, engine), storage, new ManifestCache(path.join(scratch, 'manifests'))));
}

export interface ReadOptions {
  asOf?: AsOf;
  predicate?: Predicate;
  /** SQL with `FROM t`. */
  sql?: string;
}

/** Runs SQL over one table, sealed to the files of its plan. */
export async function readTable(engine: EngineCalls, store: LakeStore, table: LakeTable, { asOf = LATEST, predicate = TRUE, sql = 'SELECT * FROM t' }: ReadOptions = {}) {
  const snapshot = await table.snapshot(asOf);
  const plan = await snapshot.plan(predicate);
  const copies = temporaryFolder();
  const storage = asStorage(store);
  const lease = await new LocalFiles(copies.path, 1e9, engine).forPlan(storage, plan);
  try {
    const { setup, relation } = scanOf({ name: 't', plan, localPath: (file) => lease.pathOf(file), headers: await csvHeaders(store, plan, lease), rows: await loadRowFilters(plan) });
    return await engine.call('query', {
      id: randomUUID(),
      setup,
      sql: sql.replace(/\bFROM t\b/, () => `FROM ${relation} AS t`),
      allow: { files: filesToRead(plan).map((file) => lease.pathOf(file)) },
      limits: { rows: 1_000_000, resultBytes: 100e6, millis: 60_000 },
    });
  } catch (error) {
    const suspects = filesToRead(plan).map((file) => ({ local: lease.pathOf(file), name: `bay:${file.path}`, path: file.path, bytes: file.bytes }));
    throw await namingTheFile(translateError(error, { roots: rootsOf(storage), copies: lease.copies, names: new Map([['\0', (table as { name?: string }).name ?? 'the table']]) }), engine, suspects);
  } finally {
    copies.remove();
  }
}
