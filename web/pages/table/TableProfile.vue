<script setup lang="ts">
/** What the values of each column are like, with how that is known. */
import { ref, watch } from 'vue';
import { call } from '../../api/client';
import type { ColumnProfile, TableProfile } from '../../api/types';
import HistogramBars from '../../charts/HistogramBars.vue';
import BaseButton from '../../design/BaseButton.vue';
import { countText, percentText, timeText, utcText } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import { useAct, useLoad } from '../../stores/load';

const props = defineProps<{ base: string }>();
const profile = useLoad(() => call<TableProfile>(`${props.base}/profile`));
watch(() => props.base, () => void profile.reload(), { immediate: true });
const { busy, problem, run } = useAct();
const making = ref('');
async function make(sample: boolean): Promise<void> {
  making.value = sample ? 'a sample' : 'all rows';
  await run(async () => (profile.value.value = await call<TableProfile>(`${props.base}/profile`, { body: { sample } })));
}
const HOW = { 'all rows': 'all rows were looked at', 'a sample': 'rows were drawn at random', metadata: 'told by the files themselves; no row was read' };
const number = (value: number) => String(Number(value.toPrecision(5)));
const looked = (now: TableProfile) => (now.how === 'metadata' ? (now.rows ?? 0) : now.looked);
const distinct = (column: ColumnProfile) => (column.distinct === null ? '' : `${column.distinctIsExact ? '' : 'about '}${countText(column.distinct)}`);
</script>

<template>
  <section class="flex min-h-0 flex-1 flex-col border border-rule bg-card" aria-label="Profile">
    <ProblemBox v-if="profile.problem.value ?? problem" class="m-3" :problem="(profile.problem.value ?? problem)!" />
    <LoadingLine v-if="!profile.value.value && !profile.problem.value" what="the profile" />
    <template v-for="now in profile.value.value ? [profile.value.value] : []" :key="now.at">
      <header class="flex flex-wrap items-center gap-x-4 gap-y-1 px-3.5 py-2">
        <span><b>{{ now.how === 'metadata' ? 'From metadata' : `From ${now.how === 'a sample' ? `${countText(now.looked)} rows of ${now.rows === null ? 'all' : countText(now.rows)}` : `all ${countText(now.looked)} rows`}` }}</b>: {{ HOW[now.how] }}.</span>
        <span class="text-muted" :title="utcText(now.at)">version {{ now.version }}{{ now.version === now.latestVersion ? '' : `, ${now.latestVersion - now.version} behind` }}, {{ timeText(now.at) }}</span>
        <span class="ml-auto flex items-center gap-2.5"><span v-if="busy" role="status" class="text-muted">looking at {{ making }} …</span><BaseButton :disabled="busy" @click="make(true)">Profile a sample</BaseButton><BaseButton :disabled="busy" @click="make(false)">Profile all rows</BaseButton></span>
      </header>
      <div class="min-h-0 overflow-auto border-t border-ink" tabindex="0" role="region" aria-label="Columns of the profile">
        <table class="w-full text-left">
          <thead class="sticky top-0 border-b border-ink bg-card"><tr><th class="px-3.5 py-1">Column</th><th class="pr-4 text-right">Null</th><th class="pr-4 text-right">Distinct</th><th>Least and greatest</th><th>Spread</th><th>Mean, middle</th><th>Most frequent</th></tr></thead>
          <tbody>
            <tr v-for="column in now.columns" :key="column.name" class="border-b border-hairline align-top">
              <td class="px-3.5 py-1.5"><span class="mono font-semibold">{{ column.name }}</span><span class="mono block max-w-40 truncate text-tiny text-muted" :title="column.type">{{ column.type }}</span></td>
              <td class="mono py-1.5 pr-4 text-right">{{ column.nulls === null || looked(now) === 0 ? '' : percentText(column.nulls / looked(now)) }}</td>
              <td class="mono py-1.5 pr-4 text-right">{{ distinct(column) }}</td>
              <td class="mono max-w-52 py-1.5 pr-3"><span class="block truncate" :title="column.min ?? ''">{{ column.min }}</span><span class="block truncate" :title="column.max ?? ''">{{ column.max }}</span></td>
              <td class="py-1.5 pr-4"><HistogramBars v-if="column.histogram" v-bind="column.histogram" :quantiles="column.histogram.isTime ? null : column.quantiles" :label="column.name" /><span v-else-if="column.lengths" class="text-muted">{{ column.lengths.min }} to {{ column.lengths.max }} characters, {{ number(column.lengths.mean) }} on average</span></td>
              <td class="mono py-1.5 pr-3"><template v-if="column.mean !== null">{{ number(column.mean) }}<span v-if="column.quantiles" class="block text-muted" title="The middle half lies between">{{ number(column.quantiles[2]!) }} ({{ number(column.quantiles[1]!) }} to {{ number(column.quantiles[3]!) }})</span></template></td>
              <td class="max-w-60 py-1.5 pr-3"><span v-for="each in column.frequent.slice(0, 3)" :key="each.value" class="flex gap-2"><span class="mono min-w-0 truncate" :title="each.value">{{ each.value === '' ? '(empty)' : each.value }}</span><span class="ml-auto shrink-0 text-muted">{{ percentText(each.rows / Math.max(1, now.looked)) }}</span></span></td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </section>
</template>
