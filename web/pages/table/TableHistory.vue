<script setup lang="ts">
/** Every version, newest first: what was done, by whom, with which condition, and what came and went. */
import { computed } from 'vue';
import type { TimelineEntry } from '../../api/types';
import { bytesText, countText, timeText, utcText } from '../../design/format';
import { useRowWindow } from '../../design/row-window';
import { metricWords, predicateWords } from './history-words';

const props = defineProps<{ entries: TimelineEntry[]; viewing: number }>();
defineEmits<{ view: [version: number] }>();
const newestFirst = computed(() => [...props.entries].reverse());
const { shown, more } = useRowWindow(newestFirst);
const signed = (added: number | undefined, removed: number | undefined) => [added ? `+${countText(added)}` : '', removed ? `−${countText(removed)}` : ''].filter(Boolean).join(' ');
const signedBytes = (added: number, removed: number) => [added ? `+${bytesText(added)}` : '', removed ? `−${bytesText(removed)}` : ''].filter(Boolean).join(' ');
</script>

<template>
  <section class="min-h-0 flex-1 overflow-auto border border-rule bg-card" tabindex="0" aria-label="History">
    <table class="w-full text-left">
      <thead class="sticky top-0 border-b border-ink bg-card"><tr><th class="px-3 py-1.5">Version</th><th>When</th><th>Operation</th><th>Who</th><th>Condition</th><th class="pr-4 text-right">Rows</th><th class="pr-4 text-right">Files</th><th class="pr-3 text-right">Bytes</th></tr></thead>
      <tbody>
        <tr v-for="each in shown" :key="`${each.version} ${each.at}`" class="border-b border-hairline align-top" :class="each.version === viewing ? 'bg-tide-soft' : ''">
          <td class="px-3 py-1.5"><button v-if="each.version !== undefined" class="mono plain-link font-semibold" :title="`Read the table at version ${each.version}`" @click="$emit('view', each.version)">{{ each.version }}</button></td>
          <td class="py-1.5 whitespace-nowrap" :title="utcText(each.at)">{{ timeText(each.at) }}</td>
          <td class="py-1.5"><span class="mono font-semibold">{{ each.operation }}</span><span v-if="metricWords(each)" class="block text-small text-muted">{{ metricWords(each) }}</span></td>
          <td class="py-1.5 pr-3">{{ each.who }}</td>
          <td class="mono max-w-[320px] py-1.5 pr-3 break-words">{{ predicateWords(each) }}</td>
          <td class="mono py-1.5 pr-4 text-right whitespace-nowrap">{{ signed(each.rowsAdded, each.rowsRemoved) }}</td>
          <td class="mono py-1.5 pr-4 text-right whitespace-nowrap">{{ signed(each.filesAdded, each.filesRemoved) }}</td>
          <td class="mono py-1.5 pr-3 text-right whitespace-nowrap">{{ signedBytes(each.bytesAdded, each.bytesRemoved) }}</td>
        </tr>
      </tbody>
    </table>
    <button v-if="more.count.value > 0" class="plain-link px-3 py-2" @click="more.show">Show {{ countText(more.count.value) }} older versions</button>
  </section>
</template>
