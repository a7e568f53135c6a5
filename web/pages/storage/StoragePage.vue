<script setup lang="ts">
import { useDebounceFn } from '@vueuse/core';
import { computed, watch } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import { call, escapePath } from '../../api/client';
import BaseButton from '../../design/BaseButton.vue';
import FilterInput from '../../design/FilterInput.vue';
import { bytesText, countText, formatName, plural } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import PageFrame from '../../shell/PageFrame.vue';
import type { PathStep } from '../../shell/PathBar.vue';
import { useCrawlStart } from '../../stores/crawls';
import { useLoad } from '../../stores/load';
import { useFolder, type FolderEntry } from '../../stores/storage';
import { queryLink } from '../query/link';
import FileLook from './FileLook.vue';
import FolderList from './FolderList.vue';
import StorageList from './StorageList.vue';

const route = useRoute();
const router = useRouter();
const storage = computed(() => (route.params.storage as string | undefined) ?? '');
const path = computed(() => (Array.isArray(route.params.path) ? route.params.path.join('/') : ((route.params.path as string | undefined) ?? '')));
const file = computed(() => (typeof route.query.file === 'string' ? route.query.file : ''));
const filter = computed({
  get: () => (typeof route.query.filter === 'string' ? route.query.filter : ''),
  set: (text) => void router.replace({ query: { ...route.query, filter: text || undefined } }),
});

const storages = useLoad(() => call<{ name: string; kind: string }[]>('/storages'));
const summary = useLoad(() => call<{ files: number; bytes: number }>(`/storages/${encodeURIComponent(storage.value)}/summary?${new URLSearchParams({ path: path.value })}`));
const folder = useFolder();
void storages.reload();
watch([storage, path], () => {
  summary.value.value = undefined;
  if (storage.value !== '') void summary.reload();
}, { immediate: true });
const openSoon = useDebounceFn(() => folder.open(storage.value, path.value, filter.value), 120);
watch([storage, path], () => storage.value !== '' && folder.open(storage.value, path.value, filter.value), { immediate: true });
watch(filter, openSoon);

const linkTo = (name: string, inside: string) => `/storage/${encodeURIComponent(name)}${inside === '' ? '' : `/${escapePath(inside)}`}`;
const steps = computed<PathStep[]>(() => {
  const all = storages.value.value ?? [];
  const parts = path.value.split('/').filter(Boolean);
  return [
    { label: 'Storage', to: '/storage' },
    ...(storage.value ? [{ label: storage.value, to: linkTo(storage.value, ''), siblings: all.map(({ name }) => ({ label: name, to: linkTo(name, '') })) }] : []),
    ...parts.map((label, index) => ({ label, to: linkTo(storage.value, parts.slice(0, index + 1).join('/')) })),
  ];
});
const title = computed(() => path.value.split('/').at(-1) || storage.value || 'Storage');
const tableHere = computed(() => folder.listing.value?.tables.find((table) => table.location === path.value));
const tablesBelow = computed(() => folder.listing.value?.tables.filter((table) => table.location !== path.value) ?? []);
const tableLink = (name: string) => `/tables/${name.split('.').map(encodeURIComponent).join('/')}`;

function open(entry: FolderEntry): void {
  if (entry.kind === 'folder') void router.push(linkTo(storage.value, path.value === '' ? entry.name : `${path.value}/${entry.name}`));
  else void router.push({ query: { ...route.query, file: entry.name } });
}
const { busy: starting, problem: crawlProblem, start: crawl } = useCrawlStart();
</script>

<template>
  <PageFrame :steps="steps">
    <template #title>
      <h1 class="break-all">{{ title }}</h1>
      <span v-if="!storage" class="text-muted">Where the lake's files are. They stay there; nothing is copied or loaded.</span>
      <span v-if="storage && summary.value.value" class="text-muted">in storage {{ storage }}, a local folder; {{ plural(summary.value.value.files, 'file') }}, {{ bytesText(summary.value.value.bytes) }}</span>
    </template>
    <template v-if="storage && folder.listing.value" #actions>
      <BaseButton v-if="path" @click="$router.push(queryLink(`SELECT * FROM &quot;${storage}:${path}&quot; LIMIT 100`))">Query these files</BaseButton>
      <BaseButton look="strong" :disabled="starting" @click="crawl(storage, path)">Crawl this folder</BaseButton>
    </template>
    <ProblemBox v-if="crawlProblem" class="mb-2" :problem="crawlProblem" />
    <ProblemBox v-if="storages.problem.value" :problem="storages.problem.value" can-retry @retry="storages.reload" />
    <StorageList v-else-if="!storage && storages.value.value" :storages="storages.value.value" @connected="(name) => router.push(linkTo(name, ''))" />
    <ProblemBox v-else-if="folder.problem.value" :problem="folder.problem.value" can-retry @retry="folder.open(storage, path, filter)" />
    <LoadingLine v-else-if="!folder.listing.value" what="the folder" />
    <div v-else class="grid min-h-0 flex-1 grid-cols-[minmax(330px,440px)_minmax(0,1fr)] gap-3.5">
      <section class="grid min-h-0 grid-rows-[auto_minmax(0,1fr)] border border-rule bg-card" aria-label="Folder">
        <header class="flex items-center gap-3 px-3 pt-1.5">
          <span class="mono min-w-0 truncate text-muted" :title="`${storage}:${path}`">{{ path || storage }}/</span>
          <span class="ml-auto shrink-0 text-muted">{{ folder.listing.value.folders.length > 0 ? `${countText(folder.listing.value.folders.length)} folders` : '' }}{{ folder.listing.value.folders.length > 0 && folder.listing.value.fileCount > 0 ? ', ' : '' }}{{ folder.listing.value.fileCount > 0 ? plural(folder.listing.value.fileCount, 'file') : '' }}</span>
          <FilterInput v-model="filter" label="Filter this folder by name" />
        </header>
        <p v-if="folder.count.value === 0" class="px-3 py-3 text-muted">{{ filter ? `Nothing here has “${filter}” in its name.` : 'This folder is empty.' }}</p>
        <FolderList v-else :count="folder.count.value" :entry-at="folder.entryAt" :chosen="file" :place="`${storage}:${path}`" @open="open" />
      </section>
      <FileLook v-if="file" :storage="storage" :path="path === '' ? file : `${path}/${file}`" />
      <section v-else class="overflow-auto border border-rule bg-card px-4 py-3" aria-label="About this folder">
        <template v-if="tableHere">
          <h2>This folder is a table</h2>
          <p class="mt-1"><RouterLink class="plain-link font-semibold" :to="tableLink(tableHere.name)">{{ tableHere.name }}</RouterLink>, {{ formatName(tableHere.format) }}. Its files belong together: open the table to read it at any of its versions.</p>
        </template>
        <template v-else>
          <h2>Choose a file to look into it</h2>
          <p class="mt-1 text-muted">Its format is guessed from its first bytes and lines, and the first rows are shown. Crawl the folder to find all tables in it; nothing is registered before you say so.</p>
        </template>
        <template v-if="tablesBelow.length > 0">
          <h3 class="mt-5 mb-1 font-semibold text-muted">Tables below this folder</h3>
          <ul><li v-for="table in tablesBelow" :key="table.name" class="flex gap-3 border-t border-hairline py-1"><RouterLink class="plain-link" :to="tableLink(table.name)">{{ table.name }}</RouterLink><span class="text-muted">{{ formatName(table.format) }}</span><span class="mono ml-auto text-muted">{{ table.location }}</span></li></ul>
        </template>
      </section>
    </div>
  </PageFrame>
</template>
