/** Whether a storage can be used, told step by step, naming what is missing. */
import { randomUUID } from 'node:crypto';
import { LakeError } from '../../core/errors';
import { toBytes } from '../../core/storage/object-store';
import type { DatabaseStore } from '../sources/database-store';
import type { LakeStore } from './lake-store';

export interface CheckStep {
  doing: 'list' | 'read' | 'write' | 'write if absent' | 'delete';
  works: boolean;
  /** What was seen, or what is missing and why it matters. */
  detail: string;
  millis: number;
}

/** Writes one small file and removes it. Later steps that rest on a failed one are left out. */
export async function checkStorage(store: LakeStore): Promise<CheckStep[]> {
  const steps: CheckStep[] = [];
  const probe = `.kind-harbor-check-${randomUUID()}`;
  const content = toBytes(probe);
  const attempt = async (doing: CheckStep['doing'], work: () => Promise<string>): Promise<boolean> => {
    const started = performance.now();
    const step = await work().then((detail) => ({ works: true, detail }), (error: unknown) => {
      if (!(error instanceof LakeError) && !(error as NodeJS.ErrnoException).code) throw error;
      return { works: false, detail: error instanceof LakeError ? error.message : `The server may not ${doing} here (${(error as NodeJS.ErrnoException).code}).` };
    });
    steps.push({ doing, ...step, millis: performance.now() - started });
    return step.works;
  };
  let first: string | undefined;
  await attempt('list', async () => {
    const page = await store.listFolder('');
    first = page.files[0]?.path ?? (await firstFile(store, page.folders));
    return `${page.folders.length} folders and ${page.files.length} files at the top`;
  });
  if (await attempt('write', async () => {
    await store.put(probe, content);
    return 'a small file was written';
  })) {
    await attempt('read', async () => {
      if (Buffer.compare(await store.read(probe), content) !== 0) throw new LakeError('bad-file', 'What was read is not what was written.');
      return 'it was read back';
    });
    await attempt('write if absent', async () => {
      if (await store.putIfAbsent(probe, toBytes('another'))) {
        throw new LakeError('unsupported', 'A conditional write went over an existing file, so the store does not honour If-None-Match: two writers could overwrite each other\'s commits. Use this storage for reading, or for one writer at a time.');
      }
      return 'a second writer was refused, so commits are safe';
    });
    await attempt('delete', async () => {
      await store.delete(probe);
      return 'the small file was removed';
    });
  } else if (first !== undefined) {
    const path = first;
    await attempt('read', async () => `${(await store.read(path, { start: 0, end: 16 })).length} bytes of ${path} were read`);
  }
  return steps;
}

/** A database is only read: whether it answers, and what it lets us see. */
export async function checkDatabase({ driver }: DatabaseStore): Promise<CheckStep[]> {
  const started = performance.now();
  const step = await driver.objects().then(
    (objects) => ({ works: objects.length > 0, detail: objects.length > 0 ? `${objects.length} tables and views may be read, in ${new Set(objects.map((object) => object.schema)).size} schemas` : 'No table or view may be read: the right SELECT is missing on all of them.' }),
    (error: unknown) => {
      if (!(error instanceof LakeError)) throw error;
      return { works: false, detail: error.message };
    },
  );
  return [{ doing: 'read', ...step, millis: performance.now() - started }];
}

async function firstFile(store: LakeStore, folders: readonly string[]): Promise<string | undefined> {
  for (const folder of folders.slice(0, 5)) {
    const page = await store.listFolder(folder);
    const found = page.files[0]?.path ?? (page.folders[0] === undefined ? undefined : await firstFile(store, [`${folder}/${page.folders[0]}`]));
    if (found !== undefined) return found;
  }
  return undefined;
}
