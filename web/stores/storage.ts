/** A folder's files, a page at a time: folders of a hundred thousand files are never loaded whole. */
import { computed, reactive, ref, shallowRef } from 'vue';
import { call, type Problem } from '../api/client';
import type { FolderListing } from '../api/types';
import { asProblem } from './load';

const PAGE = 1000;
export type FolderEntry = { kind: 'folder'; name: string } | { kind: 'file'; name: string; path: string; bytes: number; modified: number };

export function useFolder() {
  const listing = shallowRef<FolderListing>();
  const problem = shallowRef<Problem>();
  const loading = ref(false);
  const pages = reactive(new Map<number, FolderListing['files'] | 'loading'>());
  let place = { storage: '', path: '', filter: '' };

  async function fetchPage(offset: number): Promise<FolderListing> {
    const query = new URLSearchParams({ path: place.path, filter: place.filter, offset: String(offset), limit: String(PAGE) });
    return call<FolderListing>(`/storages/${encodeURIComponent(place.storage)}/list?${query}`);
  }

  async function open(storage: string, path: string, filter: string): Promise<void> {
    const wanted = { storage, path, filter };
    place = wanted;
    loading.value = true;
    try {
      const first = await fetchPage(0);
      if (place !== wanted) return;
      pages.clear();
      pages.set(0, first.files);
      listing.value = first;
      problem.value = undefined;
    } catch (error) {
      if (place !== wanted) return;
      problem.value = asProblem(error);
      listing.value = undefined;
    } finally {
      if (place === wanted) loading.value = false;
    }
  }

  const count = computed(() => (listing.value ? listing.value.folders.length + listing.value.fileCount : 0));

  /** Undefined while its page is on the way. */
  function entryAt(index: number): FolderEntry | undefined {
    const folders = listing.value?.folders ?? [];
    if (index < folders.length) return { kind: 'folder', name: folders[index]! };
    const at = index - folders.length;
    const page = pages.get(Math.floor(at / PAGE));
    if (!page) void want(Math.floor(at / PAGE));
    if (!Array.isArray(page)) return undefined;
    const file = page[at % PAGE];
    return file && { kind: 'file', name: file.path.split('/').at(-1)!, path: file.path, bytes: file.bytes, modified: file.modified };
  }

  async function want(page: number): Promise<void> {
    const wanted = place;
    pages.set(page, 'loading');
    try {
      const { files } = await fetchPage(page * PAGE);
      if (place === wanted) pages.set(page, files);
    } catch (error) {
      if (place === wanted) problem.value = asProblem(error);
    }
  }

  return { listing, problem, loading, count, entryAt, open };
}
