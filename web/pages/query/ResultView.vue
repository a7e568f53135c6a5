<script setup lang="ts">
import { computed } from 'vue';
import { call, tableLink } from '../../api/client';
import type { QueryResult } from '../../api/types';
import DataGrid from '../../design/DataGrid.vue';
import { bytesText, countText, millisText, plural, timeText } from '../../design/format';

const props = defineProps<{ result: QueryResult; fromReceipt: boolean }>();
defineEmits<{ receipt: [id: string]; write: [] }>();
const past = computed(() => props.result.receipt.tables.filter((table) => table.past));
const pastWords = computed(() => [...new Set(past.value.map((table) => `${table.name} as of ${timeText(table.committedAt)}, version ${table.version}`))].join('; '));
const files = computed(() => props.result.receipt.tables.reduce((sum, table) => ({ read: sum.read + table.files.read, total: sum.total + table.files.total, bytes: sum.bytes + table.bytes.read, all: sum.all + table.bytes.total }), { read: 0, total: 0, bytes: 0, all: 0 }));
const loadPage = (number: number) => call<unknown[][]>(`/results/${props.result.id}/rows?page=${number}`);
</script>

<template>
  <section class="flex min-h-0 flex-1 flex-col border bg-card" :class="past.length > 0 ? 'border-brass' : 'border-rule'" aria-label="Result">
    <p v-if="past.length > 0" class="border-b border-brass bg-brass-soft px-3.5 py-1"><b class="text-brass">From the past:</b> {{ pastWords }}</p>
    <p v-if="result.done" class="border-b border-kelp px-3.5 py-1.5"><b class="text-kelp">Done:</b> {{ result.done }}</p>
    <p v-else-if="result.written" class="border-b border-kelp px-3.5 py-1.5">
      <template v-if="result.written.version === null">No row of {{ result.written.table }} was concerned, so no version was made.</template>
      <template v-else><b class="text-kelp">Written:</b> version {{ result.written.version }} of <RouterLink v-if="!result.written.table.includes(':')" class="plain-link font-semibold" :to="tableLink(result.written.table)">{{ result.written.table }}</RouterLink><b v-else>{{ result.written.table }}</b>. The version before stays readable.</template>
    </p>
    <div class="flex flex-wrap items-center gap-x-5 gap-y-0.5 px-3.5 py-1.5" role="status">
      <span v-if="result.written || result.done">in {{ millisText(result.receipt.totalMs) }}</span>
      <span v-else><b>{{ result.truncated ? `First ${countText(result.rowCount)} rows` : plural(result.rowCount, 'row') }}</b> in {{ millisText(result.receipt.totalMs) }}<template v-if="fromReceipt">, run again from its receipt</template></span>
      <span v-if="result.receipt.tables.length > 0">read <b>{{ countText(files.read) }} of {{ plural(files.total, 'file') }}</b>, {{ bytesText(files.bytes) }} of {{ bytesText(files.all) }}</span>
      <button v-if="!result.isLook" class="plain-link" @click="$emit('receipt', result.receipt.id)">receipt</button>
      <template v-if="!result.written && !result.done"><button v-if="!result.isLook" class="plain-link ml-auto" @click="$emit('write')">Write to files</button><a class="plain-link" :class="result.isLook ? 'ml-auto' : ''" :href="`/api/results/${result.id}/csv`" download>Download CSV</a></template>
    </div>
    <p v-if="result.truncated" class="border-t border-hairline px-3.5 py-1 text-muted">There are more rows than are kept here. Aggregate, filter or LIMIT to see the rest.</p>
    <p v-if="result.rowCount === 0 && !result.done" class="border-t border-hairline px-3.5 py-3 text-muted">No row fits. Columns: <span class="mono">{{ result.columns.map((column) => column.name).join(', ') }}</span></p>
    <DataGrid v-else-if="!result.done || result.written || result.wrote" class="flex-1 border-t border-hairline" :columns="result.columns" :row-count="result.rowCount" :first-rows="result.rows" :load-page="loadPage" label="Result rows" with-types />
  </section>
</template>
