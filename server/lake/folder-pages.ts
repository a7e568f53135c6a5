/** Folder levels kept for a moment, so that scrolling through a hundred thousand files lists them once. */
import { Lru } from '../../core/lru';
import type { FolderPage } from '../../core/storage/object-store';
import type { Events } from '../events';
import type { OpenStorage } from './lake';

const KEPT = 20;
const FRESH_MS = 5000;

export class FolderPages {
  readonly #kept = new Lru<{ at: number; page: Promise<FolderPage> }>(KEPT);

  constructor(events: Events) {
    events.listen((event) => {
      if (event.topic === 'storage') this.#kept.clear();
    });
  }

  /** `again` asks the storage even when a page is at hand: for the first look at a folder. */
  get({ store, storage }: OpenStorage, folder: string, again: boolean): Promise<FolderPage> {
    const key = `${storage.id} ${folder}`;
    const kept = this.#kept.get(key);
    if (kept && !again && Date.now() - kept.at < FRESH_MS) return kept.page;
    const page = store.listFolder(folder);
    this.#kept.set(key, { at: Date.now(), page });
    page.catch(() => this.#kept.delete(key));
    return page;
  }
}
