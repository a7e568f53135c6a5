<script setup lang="ts">
import { useDebounceFn } from '@vueuse/core';
import { computed, ref, watch } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import { filesAsSql } from '../../../core/folder/options-sql';
import { parsePattern } from '../../../core/folder/path-pattern';
import type { ReadOptions } from '../../../core/folder/read-options';
import { memberPath } from '../../../core/storage/members';
import { call, storageLink } from '../../api/client';
import type { StorageName } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import FilterInput from '../../design/FilterInput.vue';
import { bytesText, plural } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import TextField from '../../design/TextField.vue';
import PageFrame from '../../shell/PageFrame.vue';
import type { PathStep } from '../../shell/PathBar.vue';
import { useCrawlStart } from '../../stores/crawls';
import { useLive } from '../../stores/live';
import { useAct, useLoad } from '../../stores/load';
import { useFolder, type FolderEntry } from '../../stores/storage';
import { droppedFiles, useUploads } from '../../stores/uploads';
import { queryLink } from '../query/link';
import DefineTable from './DefineTable.vue';
import FileActs from './FileActs.vue';
import FileLook from './FileLook.vue';
import LandDatabase from './LandDatabase.vue';
import FolderAbout from './FolderAbout.vue';
import FolderList from './FolderList.vue';
import PathRuler from './PathRuler.vue';
import StorageList from './StorageList.vue';
import UploadList from './UploadList.vue';

const route = useRoute();
const router = useRouter();
const storage = computed(() => (route.params.storage as string | undefined) ?? '');
const path = computed(() => (Array.isArray(route.params.path) ? route.params.path.join('/') : ((route.params.path as string | undefined) ?? '')));
const file = computed(() => (typeof route.query.file === 'string' ? route.query.file : ''));
const filter = computed({
  get: () => (typeof route.query.filter === 'string' ? route.query.filter : ''),
  set: (text) => void router.replace({ query: { ...route.query, filter: text || undefined } }),
});

const chosen = ref<string[]>([]);
const acting = ref<'move' | 'remove'>();
const storages = useLoad(() => call<StorageName[]>('/storages'));
const summary = useLoad(() => call<{ files: number; bytes: number }>(`/storages/${encodeURIComponent(storage.value)}/summary?${new URLSearchParams({ path: path.value })}`));
const folder = useFolder();
void storages.reload();
watch([storage, path], () => {
  summary.value.value = undefined;
  if (storage.value !== '') void summary.reload();
}, { immediate: true });
const reopen = () => storage.value !== '' && folder.open(storage.value, path.value, filter.value);
const openSoon = useDebounceFn(reopen, 120);
watch([storage, path], () => {
  chosen.value = [];
  acting.value = undefined;
  void reopen();
}, { immediate: true });
watch(filter, openSoon);
useLive((event) => event.topic === 'storage' && event.storage === storage.value && void refresh(), () => void refresh());
async function refresh(): Promise<void> {
  await Promise.all([reopen(), storage.value !== '' && summary.reload()]);
}

const linkTo = (name: string, inside: string) => storageLink(name, inside).path;
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
const kind = computed(() => storages.value.value?.find((each) => each.name === storage.value)?.kind ?? 'folder');
const KIND_WORDS = { folder: 'a local folder', s3: 'an object store', postgres: 'a database' };
/** A database holds tables instead of files; it is looked at and crawled, nothing is put into it. */
const isDatabase = computed(() => kind.value === 'postgres');
/** What is in an archive or a spreadsheet is read, never changed. */
const isContainer = computed(() => memberPath(path.value) !== undefined);
const landing = ref(false);
const targets = computed(() => (storages.value.value ?? []).filter((each) => each.kind !== 'postgres').sort((a, b) => Number(b.kind === 'folder') - Number(a.kind === 'folder')).map((each) => each.name));
const inFolder = (name: string) => (path.value === '' ? name : `${path.value}/${name}`);
const tableHere = computed(() => folder.listing.value?.tables.find((table) => table.location === path.value));

/** Folders that read as values of a partition, or files, can be one table; a folder of tables cannot. */
/** Files of such a table count by its log alone; read as a plain folder they would give rows that were removed. */
const hasLog = computed(() => folder.listing.value?.folders.includes('_delta_log') === true || path.value.split('/').includes('_delta_log'));
const mayBeOneTable = computed(() => path.value !== '' && !isDatabase.value && !hasLog.value && !['delta', 'iceberg'].includes(tableHere.value?.format ?? '') && (folder.listing.value?.fileCount !== 0 || folder.listing.value.folders.every((name) => /=|^\d+(-\d+)*$/.test(name))));
const pattern = computed({
  get: () => (typeof route.query.pattern === 'string' ? route.query.pattern : ''),
  set: (text) => void router.replace({ query: { ...route.query, pattern: text || undefined } }),
});
const defining = ref(false);
const reading = ref<ReadOptions>();
const suggested = ref('');
const wholePattern = computed(() => pattern.value || suggested.value);
watch([storage, path], () => (defining.value = false));
async function withPattern(then: () => void): Promise<void> {
  if (!pattern.value) suggested.value = (await call<{ pattern: string }>(`/storages/${encodeURIComponent(storage.value)}/ruler?${new URLSearchParams({ path: path.value })}`)).pattern;
  then();
}
const querySource = () => (reading.value ? filesAsSql(`${storage.value}:${wholePattern.value}`, reading.value) : `"${storage.value}:${wholePattern.value}"`);

/** Whether a file of this folder is part of the pattern; undefined where there is none to fit. */
const fits = computed(() => {
  if (!pattern.value) return undefined;
  try {
    const parsed = parsePattern(pattern.value);
    return (name: string) => parsed.match(inFolder(name)) !== undefined;
  } catch {
    return undefined;
  }
});

function open(entry: FolderEntry): void {
  if (entry.kind === 'folder') void router.push(linkTo(storage.value, inFolder(entry.name)));
  else {
    defining.value = false;
    void router.push({ query: { ...route.query, file: entry.name } });
  }
}
const { busy: starting, problem: crawlProblem, start: crawl } = useCrawlStart();

function toggle(name: string): void {
  chosen.value = chosen.value.includes(name) ? chosen.value.filter((each) => each !== name) : [...chosen.value, name];
  acting.value = undefined;
}
async function acted(): Promise<void> {
  chosen.value = [];
  acting.value = undefined;
  await refresh();
}

const uploads = useUploads();
const picker = ref<HTMLInputElement>();
const dragging = ref(false);
function pick(event: Event): void {
  const input = event.target as HTMLInputElement;
  uploads.add(storage.value, [...(input.files ?? [])].map((each) => ({ file: each, path: inFolder(each.webkitRelativePath || each.name) })));
  input.value = '';
}
async function drop(event: DragEvent): Promise<void> {
  dragging.value = false;
  if (!event.dataTransfer || storage.value === '') return;
  uploads.add(storage.value, (await droppedFiles(event.dataTransfer)).map(({ file: each, inside }) => ({ file: each, path: inFolder(inside) })));
}
const naming = ref(false);
const folderName = ref('');
const { problem: folderProblem, run } = useAct();
async function makeFolder(): Promise<void> {
  if (!(await run(() => call(`/storages/${encodeURIComponent(storage.value)}/folders`, { body: { path: inFolder(folderName.value.trim()) } })))) return;
  naming.value = false;
  folderName.value = '';
  await refresh();
}
</script>

<template>
  <PageFrame :steps="steps">
    <template #title>
      <h1 class="break-all">{{ title }}</h1>
      <span v-if="!storage" class="text-muted">Where the lake's files are. They stay there; nothing is copied or loaded.</span>
      <span v-if="storage && summary.value.value" class="text-muted">in storage {{ storage }}, {{ KIND_WORDS[kind] }}; {{ plural(summary.value.value.files, isDatabase ? 'table' : 'file') }}, {{ bytesText(summary.value.value.bytes) }}</span>
    </template>
    <template v-if="storage && folder.listing.value" #actions>
      <template v-if="!isDatabase && !isContainer"><BaseButton @click="naming = !naming">New folder</BaseButton><BaseButton @click="picker?.click()">Upload</BaseButton></template>
      <input ref="picker" type="file" multiple class="hidden" aria-label="Files to upload" @change="pick">
      <BaseButton v-if="isDatabase" :aria-expanded="landing" @click="landing = !landing">Land it…</BaseButton>
      <BaseButton :disabled="starting" @click="crawl(storage, path)">{{ isDatabase ? 'Crawl this database' : 'Crawl this folder' }}</BaseButton>
    </template>
    <form v-if="naming" class="mb-2 flex items-end gap-2.5" aria-label="New folder" @submit.prevent="makeFolder" @keydown.esc="naming = false"><TextField v-model="folderName" mono class="w-72" label="Name of the folder" required /><BaseButton type="submit">Make it</BaseButton><ProblemBox v-if="folderProblem" :problem="folderProblem" /></form>
    <LandDatabase v-if="landing && isDatabase" :key="storage" :storage="storage" :targets="targets" @close="landing = false" />
    <ProblemBox v-if="crawlProblem" class="mb-2" :problem="crawlProblem" />
    <UploadList />
    <ProblemBox v-if="storages.problem.value" :problem="storages.problem.value" can-retry @retry="storages.reload" />
    <StorageList v-else-if="!storage && storages.value.value" :storages="storages.value.value" @connected="(name) => router.push(linkTo(name, ''))" @changed="storages.reload" />
    <ProblemBox v-else-if="folder.problem.value" :problem="folder.problem.value" can-retry @retry="reopen" />
    <LoadingLine v-else-if="!folder.listing.value" what="the folder" />
    <template v-else>
      <PathRuler v-if="mayBeOneTable || pattern" v-model:pattern="pattern" :storage="storage" :path="path" @query="withPattern(() => router.push(queryLink(`SELECT * FROM ${querySource()} LIMIT 100`)))" @define="withPattern(() => (defining = true))" />
      <div class="grid min-h-0 flex-1 grid-cols-[minmax(330px,440px)_minmax(0,1fr)] gap-3.5" @dragover.prevent="dragging = true" @dragleave.self="dragging = false" @drop.prevent="drop">
        <section class="grid min-h-0 grid-rows-[auto_minmax(0,1fr)_auto] border bg-card" :class="dragging ? 'border-tide outline-2 outline-tide' : 'border-rule'" aria-label="Folder">
          <header class="flex items-center gap-3 px-3 pt-1.5">
            <span class="mono min-w-0 truncate text-muted" :title="`${storage}:${path}`">{{ dragging ? 'drop to upload into' : '' }} {{ path || storage }}/</span>
            <span class="ml-auto shrink-0 text-muted">{{ folder.listing.value.folders.length > 0 ? plural(folder.listing.value.folders.length, 'folder') : '' }}{{ folder.listing.value.folders.length > 0 && folder.listing.value.fileCount > 0 ? ', ' : '' }}{{ folder.listing.value.fileCount > 0 ? plural(folder.listing.value.fileCount, 'file') : '' }}</span>
            <FilterInput v-model="filter" label="Filter this folder by name" />
          </header>
          <p v-if="folder.count.value === 0" class="px-3 py-3 text-muted">{{ filter ? `Nothing here has “${filter}” in its name.` : 'This folder is empty. Drop files here to upload them.' }}</p>
          <FolderList v-else :count="folder.count.value" :entry-at="folder.entryAt" :chosen="file" :marked="chosen" :can-mark="!isContainer" :place="`${storage}:${path}`" :fits="fits" @open="open" @mark="toggle" />
          <footer v-if="chosen.length > 0" class="max-h-[60vh] overflow-auto">
            <p class="flex items-center gap-3 border-t border-ink px-3 py-1.5"><b>{{ chosen.length === 1 ? chosen[0] : `${chosen.length} marked` }}</b><button v-if="chosen.length === 1" class="plain-link" @click="acting = 'move'">move or rename</button><button class="plain-link" @click="acting = 'remove'">remove</button><button class="plain-link ml-auto" @click="chosen = []">unmark</button></p>
            <FileActs v-if="acting" :key="`${acting} ${chosen.join()}`" :storage="storage" :paths="chosen.map(inFolder)" :act="acting" @close="acting = undefined" @done="acted" />
          </footer>
        </section>
        <DefineTable v-if="defining" :storage="storage" :pattern="wholePattern" :reading="reading" @close="defining = false" />
        <FileLook v-else-if="file" :storage="storage" :path="inFolder(file)" @reading="(options) => (reading = options)" />
        <FolderAbout v-else :listing="folder.listing.value" />
      </div>
    </template>
  </PageFrame>
</template>
