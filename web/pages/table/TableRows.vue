<script setup lang="ts">
import { watch } from 'vue';
import { call } from '../../api/client';
import type { QueryResult } from '../../api/types';
import DataGrid from '../../design/DataGrid.vue';
import { bytesText, countText, plural } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import { useLoad } from '../../stores/load';
import { tableName } from '../query/link';

const MOST = 10_000;
const props = defineProps<{ namespace: string; table: string; version: number; past: boolean; total: number | null }>();
const result = useLoad(() => call<QueryResult>('/query', { body: { sql: `SELECT * FROM ${tableName(props.namespace, props.table)} FOR SYSTEM_VERSION AS OF ${props.version}`, maxRows: MOST, keep: true } }));
watch(() => [props.namespace, props.table, props.version], result.reload, { immediate: true });
const page = (id: string) => (number: number) => call<unknown[][]>(`/results/${id}/rows?page=${number}`);
</script>

<template>
  <ProblemBox v-if="result.problem.value" :problem="result.problem.value" can-retry @retry="result.reload" />
  <LoadingLine v-else-if="!result.value.value" what="rows" />
  <section v-else class="flex min-h-0 flex-1 flex-col border bg-card" :class="past ? 'border-brass' : 'border-rule'" aria-label="Rows">
    <p class="px-3 py-1.5 text-muted">
      <b class="text-ink">{{ result.value.value.truncated ? `The first ${countText(result.value.value.rowCount)}` : countText(result.value.value.rowCount) }}</b><template v-if="total !== null && result.value.value.truncated"> of {{ countText(total) }}</template> rows<template v-for="read in result.value.value.receipt.tables" :key="read.name">, from {{ plural(read.files.read, 'file') }}, {{ bytesText(read.bytes.read) }}</template>
    </p>
    <DataGrid class="flex-1 border-t border-hairline" :columns="result.value.value.columns" :row-count="result.value.value.rowCount" :first-rows="result.value.value.rows" :load-page="page(result.value.value.id)" :label="`Rows of ${table}, version ${version}`" with-types />
  </section>
</template>
