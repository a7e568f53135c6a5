<script setup lang="ts">
/** A file's own look: what it seems to be and why, its first rows, and as it stands in the file. How it is read can be changed. */
import { useDebounceFn } from '@vueuse/core';
import { computed, ref, watch } from 'vue';
import { filesAsSql } from '../../../core/folder/options-sql';
import { memberPath } from '../../../core/storage/members';
import type { ReadOptions } from '../../../core/folder/read-options';
import { call, storageLink } from '../../api/client';
import type { FileLook, SavedOptions } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import CopyText from '../../design/CopyText.vue';
import DataGrid from '../../design/DataGrid.vue';
import { bytesText, countText, plural, timeText, utcText } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import TagMark from '../../design/TagMark.vue';
import { useLoad } from '../../stores/load';
import { queryLink } from '../query/link';
import FileMeaning from './FileMeaning.vue';
import FileMembers from './FileMembers.vue';
import ReadOptionsForm from './ReadOptionsForm.vue';
import SavedOptionsBar from './SavedOptionsBar.vue';

const props = defineProps<{ storage: string; path: string }>();
const emit = defineEmits<{ reading: [options: ReadOptions | undefined] }>();
/** Undefined while the file is read as it seems. */
const given = ref<ReadOptions>();
const changing = ref(false);
const place = computed(() => `/storages/${encodeURIComponent(props.storage)}/look`);
const look = useLoad(() => (given.value ? call<FileLook>(place.value, { body: { path: props.path, options: given.value } }) : call<FileLook>(`${place.value}?${new URLSearchParams({ path: props.path })}`)));
watch(() => [props.storage, props.path], () => {
  changing.value = false;
  give(undefined);
  void look.reload();
}, { immediate: true });
const reloadSoon = useDebounceFn(look.reload, 250);
function give(options: ReadOptions | undefined): void {
  given.value = options;
  emit('reading', options);
}
function change(options: ReadOptions | undefined): void {
  give(options);
  void reloadSoon();
}
const saved = useLoad(() => call<SavedOptions[]>('/read-options'));
function openChange(): void {
  changing.value = !changing.value;
  if (changing.value) void saved.reload();
}
/** The archive, spreadsheet or database file that this lies in. */
const container = computed(() => {
  const within = memberPath(props.path);
  return within?.member ? within.container : undefined;
});
const containerLink = computed(() => storageLink(props.storage, container.value?.split('/').slice(0, -1).join('/'), container.value?.split('/').at(-1)));
const grounds = (file: FileLook) => file.columns.filter((each) => each.why !== undefined);
const source = computed(() => (given.value ? filesAsSql(`${props.storage}:${props.path}`, given.value) : `"${props.storage}:${props.path}"`));
</script>

<template>
  <section class="flex min-h-0 flex-col overflow-auto border border-rule bg-card" aria-label="The chosen file">
    <ProblemBox v-if="look.problem.value && !given" class="m-4" :problem="look.problem.value" can-retry @retry="look.reload" />
    <LoadingLine v-else-if="!look.value.value || look.value.value.path !== path" what="the file" />
    <template v-for="file in look.value.value && look.value.value.path === path ? [look.value.value] : []" v-else :key="file.path">
      <header class="flex flex-wrap items-center gap-x-3 gap-y-1 px-4 pt-3">
        <h2 class="break-all">{{ file.name }}</h2>
        <TagMark>{{ file.kind }}</TagMark>
        <span class="text-muted" :title="utcText(file.modified)">{{ bytesText(file.bytes) }}, {{ timeText(file.modified) }}</span>
        <span class="ml-auto flex gap-2.5">
          <BaseButton v-if="file.options && file.kind !== 'parquet'" :aria-expanded="changing" @click="openChange">How it is read</BaseButton>
          <BaseButton v-if="file.rows.length > 0" @click="$router.push(queryLink(`SELECT * FROM ${source} LIMIT 100`))">Query this file</BaseButton>
        </span>
      </header>
      <p class="px-4 pt-0.5 text-muted">
        <template v-if="file.read">{{ file.columns.length > 0 ? 'Read as' : '' }} {{ file.read }}<template v-if="file.columns.length > 0">, {{ plural(file.columns.length, 'column') }}<template v-if="file.rowCount !== null">, {{ plural(file.rowCount, 'row') }}</template></template>.</template>
        <template v-if="container"> In <RouterLink class="plain-link" :to="containerLink">{{ container.split('/').at(-1) }}</RouterLink>.</template>
        <CopyText class="ml-1" :text="`${storage}:${file.path}`" />
      </p>
      <div v-if="changing && file.options" class="mx-4 mt-2 border-l-2 border-dusk pl-3">
        <SavedOptionsBar :saved="saved.value.value ?? []" :options="given ?? file.options" :changed="given !== undefined" @take="change" @saved="saved.reload" />
        <ReadOptionsForm class="mt-2" :model-value="given ?? file.options" :lines="file.lines" @update:model-value="change" />
        <ProblemBox v-if="look.problem.value" class="mt-2" :problem="look.problem.value" />
      </div>
      <ul v-if="file.notes.length > 0" class="mx-4 mt-1.5 text-muted" aria-label="What was seen"><li v-for="note in file.notes" :key="note" class="first-letter:uppercase">{{ note }}.</li></ul>
      <p v-if="file.unchecked" class="mx-4 mt-1.5 text-muted">{{ file.unchecked }}</p>
      <details v-if="file.misfits && file.misfits.lines > 0" class="mx-4 mt-1.5" :open="file.misfits.count > 0 && file.misfits.count <= 5">
        <summary :class="file.misfits.count > 0 ? 'cursor-pointer text-rust' : 'list-none text-kelp'">{{ countText(file.misfits.count) }} of {{ plural(file.misfits.lines, 'line') }} {{ file.misfits.count === 1 ? 'does' : 'do' }} not fit</summary>
        <ul v-if="file.misfits.count > 0" class="mt-1 max-h-32 overflow-auto border-l-2 border-rust pl-2"><li v-for="(each, index) in file.misfits.some" :key="index"><span class="text-muted">line {{ each.line ?? '?' }}:</span> {{ each.why }} <code class="text-muted">{{ each.text.slice(0, 120) }}</code></li></ul>
      </details>
      <div v-if="file.problem" role="alert" class="mx-4 mt-2 border border-rust bg-rust-soft px-3 py-2">
        <b class="text-rust">This file cannot be read {{ given ? 'like this' : 'as it seems to be' }}.</b> {{ file.problem }}
      </div>
      <DataGrid v-if="file.rows.length > 0" class="mt-2 max-h-[52%] min-h-[150px] shrink-0 border-y border-hairline" :columns="file.columns" :row-count="file.rows.length" :first-rows="file.rows" :label="`First rows of ${file.name}`" with-types />
      <div class="min-h-[120px] flex-1 overflow-auto px-4 py-2" tabindex="0" role="region" aria-label="More about the file">
        <FileMembers v-if="file.members" :storage="storage" :path="file.path" :members="file.members" />
        <details v-if="grounds(file).length > 0" class="mb-2">
          <summary class="cursor-pointer font-semibold text-muted">Why each column has its type</summary>
          <dl class="mt-1 grid grid-cols-[auto_1fr] gap-x-3 gap-y-0.5"><template v-for="each in grounds(file)" :key="each.name"><dt class="mono">{{ each.name }} <span class="text-muted">{{ each.type }}</span></dt><dd class="text-muted">{{ each.why }}</dd></template></dl>
        </details>
        <FileMeaning :file="file" :storage="storage" />
        <template v-if="file.lines.length > 0">
          <h3 class="font-semibold text-muted">As it stands in the file</h3>
          <pre class="mt-1 overflow-x-auto bg-paper px-3 py-2">{{ file.lines.join('\n') }}</pre>
        </template>
      </div>
    </template>
  </section>
</template>
