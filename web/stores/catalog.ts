import { defineStore } from 'pinia';
import { computed } from 'vue';
import { call } from '../api/client';
import type { CatalogNames, TableDetail } from '../api/types';
import { useLive } from './live';
import { useLoad } from './load';

export const useCatalog = defineStore('catalog', () => {
  const names = useLoad(() => call<CatalogNames>('/catalog'));
  const details = new Map<string, Promise<TableDetail>>();
  const relations = computed(() => names.value.value?.relations ?? []);
  const namespaces = computed(() => names.value.value?.namespaces ?? []);

  const refresh = () => {
    details.clear();
    return names.reload();
  };
  useLive((event) => {
    if (event.topic === 'catalog') void refresh();
    if (event.topic === 'table') details.clear();
  }, () => void refresh());

  /** The latest state of a table; asked for once until something changes. */
  function detail(namespace: string, table: string): Promise<TableDetail> {
    const key = `${namespace}.${table}`;
    const known = details.get(key) ?? call<TableDetail>(`/catalog/${encodeURIComponent(namespace)}/${encodeURIComponent(table)}`);
    details.set(key, known);
    known.catch(() => details.delete(key));
    return known;
  }

  return { namespaces, relations, loading: names.loading, problem: names.problem, refresh, detail };
});
