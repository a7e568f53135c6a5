<script setup lang="ts">
/** What a file says of itself beyond its rows: Parquet row groups, the schema of Avro, a commit's actions, a table's snapshots. */
import { storageLink } from '../../api/client';
import type { FileLook } from '../../api/types';
import { bytesText, countText } from '../../design/format';

defineProps<{ file: FileLook; storage: string }>();
const linkTo = (storage: string, path: string) => storageLink(storage, path.split('/').slice(0, -1).join('/'), path.split('/').at(-1));
</script>

<template>
  <template v-if="file.meaning">
    <h3 class="font-semibold text-muted">{{ file.meaning.title }}</h3>
    <ul class="mb-3">
      <li v-for="(each, index) in file.meaning.facts" :key="index" class="flex gap-3 border-b border-hairline py-0.5">
        <span class="w-44 shrink-0 text-muted">{{ each.what }}</span>
        <RouterLink v-if="each.path" class="plain-link mono min-w-0 break-all" :to="linkTo(storage, each.path)">{{ each.text }}</RouterLink>
        <span v-else class="mono min-w-0 break-words">{{ each.text }}</span>
      </li>
    </ul>
  </template>
  <template v-if="file.parquet">
    <h3 class="font-semibold text-muted">Row groups <span class="font-normal">written by {{ file.parquet.createdBy }}</span></h3>
    <table class="mt-1 w-full max-w-xl text-left">
      <thead class="border-b border-ink"><tr><th class="py-0.5">Group</th><th class="text-right">Rows</th><th class="text-right">Size</th><th class="pl-6">Compression</th></tr></thead>
      <tbody class="mono">
        <tr v-for="(group, index) in file.parquet.rowGroups" :key="index" class="border-b border-hairline"><td class="py-0.5">{{ index }}</td><td class="text-right">{{ countText(group.rows) }}</td><td class="text-right">{{ bytesText(group.bytes) }}</td><td class="pl-6">{{ group.compression.toLowerCase() }}</td></tr>
      </tbody>
    </table>
    <h3 class="mt-3 font-semibold text-muted">Columns as they are stored</h3>
    <table class="mt-1 mb-3 w-full text-left">
      <thead class="border-b border-ink"><tr><th class="py-0.5">Column</th><th>Type</th><th>Encodings</th><th class="text-right">Size</th><th class="text-right">Nulls</th><th class="pl-4">Least</th><th class="pl-4">Greatest</th></tr></thead>
      <tbody class="mono">
        <tr v-for="column in file.parquet.columns" :key="column.name" class="border-b border-hairline"><td class="py-0.5">{{ column.name }}</td><td class="text-muted">{{ column.type }}</td><td class="text-muted">{{ column.encodings }}</td><td class="text-right">{{ bytesText(column.bytes) }}</td><td class="text-right">{{ column.nulls === null ? '' : countText(column.nulls) }}</td><td class="max-w-36 truncate pl-4" :title="column.min ?? ''">{{ column.min }}</td><td class="max-w-36 truncate pl-4" :title="column.max ?? ''">{{ column.max }}</td></tr>
      </tbody>
    </table>
  </template>
</template>
