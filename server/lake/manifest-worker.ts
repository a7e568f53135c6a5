/** Decodes large manifests, and keeps them decoded on disk, away from the thread that answers requests. */
import { existsSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { serialize } from 'node:v8';
import { parentPort } from 'node:worker_threads';
import { decodeEntries, type EntryColumns } from '../../core/iceberg/entry-columns';
import { LakeError } from '../../core/errors';
import { faultWords } from '../../core/fault-words';
import { CACHE_FORM, readKept, type ManifestAnswer, type ManifestAsk } from './manifest-reply';

parentPort!.on('message', (ask: ManifestAsk) => {
  void answer(ask).then(({ reply, transfer }) => parentPort!.postMessage(reply, transfer));
});

async function answer({ id, name, source, cached }: ManifestAsk): Promise<{ reply: ManifestAnswer; transfer: ArrayBuffer[] }> {
  try {
    const kept = existsSync(cached) ? readKept(readFileSync(cached)) : undefined;
    if (!kept && source === undefined) return { reply: { id, columns: undefined }, transfer: [] };
    const columns = kept ?? await decodeEntries(typeof source === 'string' ? readFileSync(source) : source!, name);
    if (!kept) keep(cached, columns);
    const given = owned(columns);
    return { reply: { id, columns: given }, transfer: buffersOf(given) };
  } catch (error) {
    const known = error instanceof LakeError ? error : new LakeError('bad-file', `${name}: ${faultWords(error)}.`, { path: name });
    return { reply: { id, problem: { kind: known.kind, message: known.message, details: known.details } }, transfer: [] };
  }
}

/** A cache that cannot be written is only slower. */
function keep(cached: string, columns: EntryColumns): void {
  try {
    const part = `${cached}.${process.pid}.${Math.random().toString(36).slice(2)}.part`;
    writeFileSync(part, Buffer.concat([Buffer.from(CACHE_FORM), serialize(columns)]));
    renameSync(part, cached);
  } catch {
    // As said above.
  }
}

/** With arrays that are alone in their buffers, so that these can be handed over. */
function owned(columns: EntryColumns): EntryColumns {
  const own = <T extends ArrayBufferView & { slice(): T }>(view: T): T => (view.byteLength === view.buffer.byteLength ? view : view.slice());
  const made = Object.fromEntries(Object.entries(columns).map(([key, value]) => [key, ArrayBuffer.isView(value) ? own(value as Uint8Array) : value])) as unknown as EntryColumns;
  // A view of the engine's Buffer class would come out as one of its pool.
  return { ...made, data: new Uint8Array(made.data.buffer, made.data.byteOffset, made.data.byteLength).slice(), maps: new Map([...columns.maps].map(([id, places]) => [id, own(places)])) };
}

function buffersOf(columns: EntryColumns): ArrayBuffer[] {
  const arrays = [...Object.values(columns), ...columns.maps.values()].filter((each): each is Uint8Array => ArrayBuffer.isView(each));
  return arrays.map((each) => each.buffer as ArrayBuffer);
}
