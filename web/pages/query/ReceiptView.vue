<script setup lang="ts">
/** One receipt: what was asked, what was read, and the way to ask it again of the same versions. */
import { watch } from 'vue';
import { call } from '../../api/client';
import type { Receipt } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import CopyText from '../../design/CopyText.vue';
import { bytesText, countText, millisText, plural, timeText, utcText } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import TagMark from '../../design/TagMark.vue';
import { useLoad } from '../../stores/load';
import { isChange } from '../../../core/sql/change';

const props = defineProps<{ id: string; busy: boolean }>();
defineEmits<{ close: []; rerun: [receipt: Receipt]; edit: [sql: string] }>();
const receipt = useLoad(() => call<Receipt>(`/receipts/${props.id}`));
watch(() => props.id, receipt.reload, { immediate: true });
/** "Wrote version 14 of refined.bottles: 28 rows updated." */
function writtenWords({ written, outcome }: Receipt): string {
  if (!written || outcome !== 'done') return '';
  const counts = (['rowsInserted', 'rowsUpdated', 'rowsDeleted'] as const).flatMap((key) => (Number(written[key] ?? 0) > 0 ? [`${plural(Number(written[key]), 'row')} ${key.slice(4).toLowerCase()}`] : []));
  if (written.version === null || written.version === undefined) return `No row of ${written.table} was concerned.`;
  return `Wrote version ${written.version} of ${written.table}${counts.length > 0 ? `: ${counts.join(', ')}` : ''}.`;
}
const outcomes = { done: 'done', failed: 'failed', cancelled: 'cancelled' };
</script>

<template>
  <section class="border border-ink bg-card px-4 py-3" aria-label="Receipt" @keydown.esc="$emit('close')">
    <header class="flex items-baseline justify-between"><h2>Receipt</h2><button class="plain-link text-muted" @click="$emit('close')">close</button></header>
    <ProblemBox v-if="receipt.problem.value" :problem="receipt.problem.value" />
    <LoadingLine v-else-if="!receipt.value.value" what="the receipt" />
    <template v-for="each in receipt.value.value && !receipt.problem.value ? [receipt.value.value] : []" v-else :key="each.id">
      <p class="text-muted"><span :title="utcText(each.at)">{{ timeText(each.at) }}</span>, {{ each.who }}, {{ outcomes[each.outcome] }}</p>
      <pre class="mt-1.5 max-h-40 overflow-auto bg-paper px-2 py-1.5 whitespace-pre-wrap break-words" tabindex="0">{{ each.sql }}</pre>
      <p v-if="each.problem" class="mt-1 border-l-2 border-rust pl-2 break-words">{{ each.problem }}</p>
      <p v-if="writtenWords(each)" class="mt-1.5">{{ writtenWords(each) }}</p>
      <table v-if="each.tables.length > 0" class="mt-2 w-full text-left">
        <tbody>
          <tr v-for="(table, index) in each.tables" :key="index" class="border-t border-hairline align-top">
            <td class="py-1 pr-2 break-all"><b>{{ table.name }}</b><br><TagMark :tone="table.past ? 'brass' : 'plain'">version {{ table.version }}</TagMark><span v-if="table.unplanned" class="mt-1 block text-small text-muted break-words">{{ table.unplanned }}</span></td>
            <td class="mono py-1 text-right">{{ countText(table.files.read) }} of {{ plural(table.files.total, 'file') }}<br><span class="text-muted">{{ bytesText(table.bytes.read) }} of {{ bytesText(table.bytes.total) }}</span></td>
          </tr>
        </tbody>
      </table>
      <p v-if="each.totalMs !== null" class="mt-1.5 border-t border-hairline pt-1.5 text-muted">{{ each.rowCount === null ? '' : `${plural(each.rowCount, 'row')}, ` }}<template v-if="each.planMs !== null">planned {{ millisText(each.planMs) }}, </template><template v-if="each.engineMs !== null">engine {{ millisText(each.engineMs) }}, </template>in all {{ millisText(each.totalMs) }}</p>
      <p class="mt-1 text-small text-muted">id <CopyText :text="each.id" /></p>
      <p class="mt-2 flex flex-wrap gap-2"><BaseButton v-if="each.kind === 'query'" look="strong" :disabled="busy" @click="$emit('rerun', each)">Run again, same versions</BaseButton><BaseButton v-if="each.kind === 'query' || isChange(each.sql)" @click="$emit('edit', each.sql)">Put in editor</BaseButton></p>
    </template>
  </section>
</template>
