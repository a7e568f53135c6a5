<script setup lang="ts">
import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from '@headlessui/vue';
import { useDebounceFn } from '@vueuse/core';
import { ref } from 'vue';
import { useRouter } from 'vue-router';
import { call, storageLink, tableLink } from '../api/client';
import { queryLink } from '../pages/query/link';
import type { Hit } from '../api/types';

const router = useRouter();
const hits = ref<Hit[]>([]);
const text = ref('');
const searched = ref('');

const search = useDebounceFn(searchNow, 150);

async function searchNow(): Promise<void> {
  const wanted = text.value.trim();
  const found = wanted === '' ? [] : (await call<{ hits: Hit[] }>(`/find?${findQuery(wanted)}`).catch(() => ({ hits: [] }))).hits;
  // The text may have moved on meanwhile; then another answer is on its way.
  if (wanted !== text.value.trim()) return;
  hits.value = found;
  searched.value = wanted;
}

/** Enter with nothing chosen in the list opens what fits best. */
async function openBest(): Promise<void> {
  if (searched.value !== text.value.trim()) await searchNow();
  open(hits.value[0] ?? null);
}

/** `kind:column in:refined oxy` narrows what is found. */
function findQuery(words: string): URLSearchParams {
  const query = new URLSearchParams();
  const rest = words.replace(/\b(kind|in|source):(\S+)/g, (_, key: string, value: string) => {
    query.set(key === 'in' ? 'namespace' : key, value);
    return '';
  });
  query.set('q', rest.trim() || words);
  return query;
}

function onInput(event: Event): void {
  text.value = (event.target as HTMLInputElement).value;
  void search();
}

function open(hit: Hit | null): void {
  if (!hit) return;
  hits.value = [];
  if (hit.kind === 'folder') void router.push(storageLink(hit.inside, hit.name));
  else if (hit.kind === 'file') void router.push(storageLink(hit.inside, hit.name.split('/').slice(0, -1).join('/'), hit.name.split('/').at(-1)));
  else if (hit.kind === 'saved query') void router.push(queryLink(hit.inside));
  else if (hit.kind === 'view') void router.push(tableLink(hit.name).replace('/tables/', '/catalog/'));
  else void router.push({ path: tableLink(hit.kind === 'column' ? hit.inside : hit.name), query: hit.kind === 'column' ? { section: 'columns' } : {} });
}
</script>

<template>
  <Combobox v-slot="{ activeOption }" as="div" class="relative w-[250px]" :model-value="null" nullable @update:model-value="open">
    <div class="flex items-center border-b border-ink">
      <ComboboxInput id="find" class="w-full bg-transparent py-1 outline-none placeholder:text-muted" placeholder="Find tables, columns, files" aria-label="Find tables, columns, files" autocomplete="off" :display-value="() => ''" @input="onInput" @keydown.enter="activeOption ?? openBest()" />
      <kbd class="mono px-1 text-muted" aria-hidden="true">/</kbd>
    </div>
    <ComboboxOptions class="absolute right-0 z-40 mt-1 max-h-[60vh] w-[380px] overflow-auto border border-ink bg-card">
      <ComboboxOption v-for="hit in hits" :key="`${hit.kind} ${hit.inside} ${hit.name}`" v-slot="{ active }" :value="hit" as="template">
        <li class="flex items-baseline gap-2 px-3 py-1.5" :class="active ? 'bg-tide-soft' : ''">
          <span class="min-w-0"><span class="mono block truncate">{{ hit.name }}</span><span v-if="hit.because" class="block truncate text-small text-muted">{{ hit.because }}</span></span>
          <span class="ml-auto shrink-0 text-small text-muted">{{ hit.kind }}{{ hit.kind === 'table' || hit.kind === 'view' || hit.kind === 'saved query' ? '' : ` in ${hit.inside}` }}</span>
        </li>
      </ComboboxOption>
      <li v-if="hits.length === 0 && searched !== ''" class="px-3 py-2 text-muted">Nothing has “{{ searched }}” in its name, description or tags. <code>kind:column</code> and <code>in:refined</code> narrow what is looked through.</li>
    </ComboboxOptions>
  </Combobox>
</template>
