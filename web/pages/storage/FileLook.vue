<script setup lang="ts">
/** A file's own look: what it seems to be and why, its first rows, and as it stands in the file. */
import { watch } from 'vue';
import { call } from '../../api/client';
import type { FileLook } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import CopyText from '../../design/CopyText.vue';
import DataGrid from '../../design/DataGrid.vue';
import { bytesText, countText, plural, timeText, utcText } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import TagMark from '../../design/TagMark.vue';
import { useLoad } from '../../stores/load';
import { queryLink } from '../query/link';

const props = defineProps<{ storage: string; path: string }>();
const look = useLoad(() => call<FileLook>(`/storages/${encodeURIComponent(props.storage)}/look?${new URLSearchParams({ path: props.path })}`));
watch(() => [props.storage, props.path], look.reload, { immediate: true });
</script>

<template>
  <section class="flex min-h-0 flex-col border border-rule bg-card" aria-label="The chosen file">
    <ProblemBox v-if="look.problem.value" class="m-4" :problem="look.problem.value" can-retry @retry="look.reload" />
    <LoadingLine v-else-if="!look.value.value || look.value.value.path !== path" what="the file" />
    <template v-for="file in look.value.value && !look.problem.value ? [look.value.value] : []" v-else :key="file.path">
      <header class="flex flex-wrap items-center gap-x-3 gap-y-1 px-4 pt-3">
        <h2 class="break-all">{{ file.name }}</h2>
        <TagMark>{{ file.kind }}</TagMark>
        <span class="text-muted" :title="utcText(file.modified)">{{ bytesText(file.bytes) }}, {{ timeText(file.modified) }}</span>
        <BaseButton v-if="file.rows.length > 0" class="ml-auto" @click="$router.push(queryLink(`SELECT * FROM &quot;${storage}:${file.path}&quot; LIMIT 100`))">Query this file</BaseButton>
      </header>
      <p class="px-4 pt-0.5 text-muted">
        <template v-if="file.read">{{ file.columns.length > 0 ? 'Read as' : '' }} {{ file.read }}<template v-if="file.columns.length > 0">, {{ plural(file.columns.length, 'column') }}<template v-if="file.rowCount !== null">, {{ plural(file.rowCount, 'row') }}</template></template>.</template>
        <CopyText class="ml-1" :text="`${storage}:${file.path}`" />
      </p>
      <div v-if="file.problem" role="alert" class="mx-4 mt-2 border border-rust bg-rust-soft px-3 py-2">
        <b class="text-rust">This file cannot be read as it seems to be.</b> {{ file.problem }}
      </div>
      <DataGrid v-if="file.rows.length > 0" class="mt-2 max-h-[52%] min-h-[150px] border-y border-hairline" :columns="file.columns" :row-count="file.rows.length" :first-rows="file.rows" :label="`First rows of ${file.name}`" with-types />
      <div class="min-h-0 flex-1 overflow-auto px-4 py-2" tabindex="0" role="region" aria-label="More about the file">
        <template v-if="file.parquet">
          <h3 class="font-semibold text-muted">Row groups <span class="font-normal">written by {{ file.parquet.createdBy }}</span></h3>
          <table class="mt-1 w-full max-w-xl text-left">
            <thead class="border-b border-ink"><tr><th class="py-0.5">Group</th><th class="text-right">Rows</th><th class="text-right">Size</th><th class="pl-6">Compression</th></tr></thead>
            <tbody class="mono">
              <tr v-for="(group, index) in file.parquet.rowGroups" :key="index" class="border-b border-hairline"><td class="py-0.5">{{ index }}</td><td class="text-right">{{ countText(group.rows) }}</td><td class="text-right">{{ bytesText(group.bytes) }}</td><td class="pl-6">{{ group.compression.toLowerCase() }}</td></tr>
            </tbody>
          </table>
        </template>
        <template v-if="file.lines.length > 0">
          <h3 class="font-semibold text-muted">As it stands in the file</h3>
          <pre class="mt-1 overflow-x-auto bg-paper px-3 py-2">{{ file.lines.join('\n') }}</pre>
        </template>
      </div>
    </template>
  </section>
</template>
