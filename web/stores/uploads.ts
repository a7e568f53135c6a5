/** Files on their way into a storage, in pieces: two at a time, each going on where it broke off. */
import { computed, reactive } from 'vue';
import { call, Problem } from '../api/client';
import { asProblem } from './load';

const PIECE = 8 * 1024 * 1024;
const AT_ONCE = 2;
const TRIES = 5;

export interface UploadItem {
  key: string;
  file: File;
  storage: string;
  path: string;
  sent: number;
  state: 'waiting' | 'sending' | 'done' | 'failed' | 'stopped';
  problem: string;
  replace: boolean;
}

const items = reactive<UploadItem[]>([]);
let nextKey = 1;

export function useUploads() {
  function add(storage: string, files: readonly { file: File; path: string }[]): void {
    for (const { file, path } of files) items.push({ key: `u${nextKey++}`, file, storage, path, sent: 0, state: 'waiting', problem: '', replace: false });
    pump();
  }
  function retry(item: UploadItem, replace = false): void {
    Object.assign(item, { state: 'waiting', problem: '', replace });
    pump();
  }
  function stop(item: UploadItem): void {
    item.state = 'stopped';
  }
  function clearDone(): void {
    for (let i = items.length - 1; i >= 0; i--) if (items[i]!.state === 'done' || items[i]!.state === 'stopped') items.splice(i, 1);
  }
  const busy = computed(() => items.some((item) => item.state === 'waiting' || item.state === 'sending'));
  return { items, add, retry, stop, clearDone, busy };
}

function pump(): void {
  while (items.filter((item) => item.state === 'sending').length < AT_ONCE) {
    const next = items.find((item) => item.state === 'waiting');
    if (!next) return;
    next.state = 'sending';
    void send(next).finally(pump);
  }
}

async function send(item: UploadItem): Promise<void> {
  try {
    const body = { path: item.path, bytes: item.file.size, mark: String(item.file.lastModified), replace: item.replace };
    const upload = await call<{ id: string; received: number }>(`/storages/${encodeURIComponent(item.storage)}/uploads`, { body });
    item.sent = upload.received;
    while (item.sent < item.file.size) {
      if (item.state === 'stopped') return void (await call(`/uploads/${upload.id}`, { method: 'DELETE' }));
      item.sent = await sendPiece(upload.id, item);
    }
    await call(`/uploads/${upload.id}/finish`, { body: {} });
    item.state = 'done';
  } catch (error) {
    item.state = 'failed';
    item.problem = asProblem(error).message;
  }
}

/** The bytes that have arrived. A piece that fails on the way is asked about and sent again. */
async function sendPiece(id: string, item: UploadItem): Promise<number> {
  for (let attempt = 1; ; attempt++) {
    try {
      const response = await fetch(`/api/uploads/${id}?offset=${item.sent}`, { method: 'PUT', body: item.file.slice(item.sent, item.sent + PIECE), headers: { 'content-type': 'application/octet-stream' } });
      const answer = (await response.json()) as { received: number; detail?: string; title?: string };
      if (!response.ok) throw new Problem(response.status, answer.title ?? 'Failed', answer.detail ?? `The server answered ${response.status}.`);
      return answer.received;
    } catch (error) {
      if (error instanceof Problem || attempt >= TRIES) throw error;
      await new Promise((resolve) => setTimeout(resolve, 300 * 2 ** attempt));
      const { received } = await call<{ received: number }>(`/storages/${encodeURIComponent(item.storage)}/uploads`, { body: { path: item.path, bytes: item.file.size, mark: String(item.file.lastModified), replace: true } });
      item.sent = received;
    }
  }
}

/** Everything that was dropped, folders too, with paths below the drop. */
export async function droppedFiles(transfer: DataTransfer): Promise<{ file: File; inside: string }[]> {
  const entries = [...transfer.items].map((item) => item.webkitGetAsEntry()).filter((entry) => entry !== null);
  return (await Promise.all(entries.map((entry) => filesOf(entry, '')))).flat();
}

async function filesOf(entry: FileSystemEntry, before: string): Promise<{ file: File; inside: string }[]> {
  const inside = before === '' ? entry.name : `${before}/${entry.name}`;
  if (entry.isFile) return [{ file: await new Promise<File>((resolve, reject) => (entry as FileSystemFileEntry).file(resolve, reject)), inside }];
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  const found: { file: File; inside: string }[] = [];
  // A reader gives a hundred entries at a time, and none when it is through.
  for (;;) {
    const part = await new Promise<FileSystemEntry[]>((resolve, reject) => reader.readEntries(resolve, reject));
    if (part.length === 0) return found;
    found.push(...(await Promise.all(part.map((each) => filesOf(each, inside)))).flat());
  }
}
