<script setup lang="ts">
/** A folder that is a table with a log of its own, registered or not: its newest versions, and how to read and change it by its path. */
import { watch } from 'vue';
import { call } from '../../api/client';
import type { FolderTable } from '../../api/types';
import { bytesText, countText, formatName, plural, timeText, utcText } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import { quoteName } from '../../../core/sql/tokens';
import { useLoad } from '../../stores/load';
import { predicateWords } from '../table/history-words';
import { queryLink } from '../query/link';

const props = defineProps<{ storage: string; path: string }>();
const table = useLoad(() => call<FolderTable>(`/storages/${encodeURIComponent(props.storage)}/table?${new URLSearchParams({ path: props.path })}`));
watch(() => [props.storage, props.path], table.reload, { immediate: true });
const name = () => quoteName(`${props.storage}:${props.path}`);
</script>

<template>
  <ProblemBox v-if="table.problem.value" class="mt-3" :problem="table.problem.value" can-retry @retry="table.reload" />
  <LoadingLine v-else-if="!table.value.value" what="the log of this folder" />
  <template v-else>
    <p class="mt-2">{{ formatName(table.value.value.format) }}, version {{ table.value.value.version }}: <template v-if="table.value.value.rows !== null">{{ countText(table.value.value.rows) }} rows in </template>{{ plural(table.value.value.files, 'file') }}, {{ bytesText(table.value.value.bytes) }}; {{ plural(table.value.value.columns.length, 'column') }}.</p>
    <p class="mt-1 flex gap-4">
      <RouterLink class="plain-link" :to="queryLink(`SELECT *\nFROM ${name()}\nLIMIT 100`)">Query it by its path</RouterLink>
      <RouterLink v-if="table.value.value.format === 'delta' && table.value.value.history.length > 1" class="plain-link" :to="queryLink(`SELECT *\nFROM changes_of('${storage}:${path.replaceAll(`'`, `''`)}', since => ${Math.max(0, table.value.value.version)})\nLIMIT 100`)">What the last version changed</RouterLink>
    </p>
    <h3 class="mt-3 mb-1 font-semibold text-muted">Versions</h3>
    <table class="w-full text-left">
      <tbody>
        <tr v-for="each in [...table.value.value.history].reverse().slice(0, 50)" :key="`${each.version} ${each.at}`" class="border-t border-hairline align-top">
          <td class="mono py-1 pr-3 font-semibold">{{ each.version }}</td><td class="py-1 pr-3 whitespace-nowrap" :title="utcText(each.at)">{{ timeText(each.at) }}</td><td class="mono py-1 pr-3">{{ each.operation }}</td><td class="py-1 pr-3">{{ each.who }}</td><td class="mono py-1 break-words text-muted">{{ predicateWords(each) }}</td>
        </tr>
      </tbody>
    </table>
  </template>
</template>
