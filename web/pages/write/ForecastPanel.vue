<script setup lang="ts">
/** What a write would make, before it is made: the tree of files, what is uneven, what it costs; and some rows tried for real. */
import { computed, ref, watch } from 'vue';
import { RouterLink } from 'vue-router';
import type { Forecast } from '../../../core/write/forecast';
import type { TrialOutcome } from '../../../core/write/outcome';
import { call } from '../../api/client';
import BaseButton from '../../design/BaseButton.vue';
import { bytesText, countText, millisText, plural } from '../../design/format';
import ProblemBox from '../../design/ProblemBox.vue';
import SelectField from '../../design/SelectField.vue';
import { useAct } from '../../stores/load';
import FilesTree from './FilesTree.vue';

const props = defineProps<{ sql: string; root: string; ready: boolean; narrow?: boolean }>();
const basis = ref<'all' | 'sample'>('all');
const forecast = ref<Forecast>();
const trial = ref<TrialOutcome>();
const foreseeing = useAct();
const trying = useAct();
watch(() => props.sql, () => (forecast.value = trial.value = undefined));
async function foresee(): Promise<void> {
  await foreseeing.run(async () => {
    forecast.value = await call<Forecast>('/writes/forecast', { body: { sql: props.sql, ...(basis.value === 'sample' ? { sampleRows: SAMPLE } : {}) } });
  });
}
watch(basis, () => forecast.value && void foresee());
const SAMPLE = 10_000;
const trialRows = ref<'100' | '1000'>('100');
const trialFrom = ref<'first' | 'sampled'>('first');
async function tryIt(): Promise<void> {
  await trying.run(async () => {
    trial.value = await call<TrialOutcome>('/writes/trial', { body: { sql: props.sql, rows: Number(trialRows.value), sampled: trialFrom.value === 'sampled' } });
  });
}
const PARTS = { read: 'reading and counting', order: 'putting rows in order', write: 'writing the files' } as const;
const longest = computed(() => Math.max(1, ...(forecast.value?.costs ?? []).map((each) => each.millis)));
const total = computed(() => (forecast.value?.costs ?? []).reduce((sum, each) => sum + each.millis, 0));
</script>

<template>
  <section class="flex min-h-0 flex-col" aria-label="What it makes">
    <div class="flex flex-wrap items-end gap-2.5">
      <BaseButton :disabled="!ready || foreseeing.busy.value" @click="foresee">{{ foreseeing.busy.value ? 'Counting …' : 'See what it makes' }}</BaseButton>
      <SelectField v-model="basis" label="From" :choices="[{ value: 'all', words: 'all rows' }, { value: 'sample', words: `a sample of ${countText(SAMPLE)}` }]" />
      <span class="ml-auto flex items-end gap-2">
        <BaseButton :disabled="!ready || trying.busy.value" @click="tryIt">{{ trying.busy.value ? 'Writing …' : 'Try it' }}</BaseButton>
        <SelectField v-model="trialFrom" label="On" :choices="[{ value: 'first', words: 'the first' }, { value: 'sampled', words: 'a sample of' }]" />
        <SelectField v-model="trialRows" label="Rows" :choices="[{ value: '100', words: '100' }, { value: '1000', words: '1,000' }]" />
      </span>
    </div>
    <ProblemBox v-if="foreseeing.problem.value ?? trying.problem.value" class="mt-2" :problem="(foreseeing.problem.value ?? trying.problem.value)!" />
    <article v-if="trial" class="mt-2 border-l-2 border-tide pl-2" role="status">
      <p>The trial wrote {{ plural(trial.files.length, 'file') }}, {{ bytesText(trial.bytes) }}, to <RouterLink class="plain-link mono" :to="`/storage/${encodeURIComponent(trial.storage)}/${trial.folder}`">{{ trial.storage }}:{{ trial.folder }}</RouterLink>. Look at them there, and remove the folder when you have.</p>
      <ul class="mono mt-1 max-h-24 overflow-auto text-muted" tabindex="0" aria-label="Files of the trial"><li v-for="file in trial.files" :key="file.path">{{ file.path }} <span class="ml-2">{{ file.rows === null ? '' : `${plural(file.rows, 'row')}, ` }}{{ bytesText(file.bytes) }}</span></li></ul>
    </article>
    <div v-if="forecast" class="mt-3 flex min-h-0 flex-1 flex-col" :class="narrow ? '' : 'overflow-auto'" tabindex="0" role="region" aria-label="Forecast">
      <h2>{{ plural(forecast.files, 'file') }}<template v-if="forecast.folderCount > 1"> in {{ plural(forecast.folderCount, 'folder') }}</template>, about {{ bytesText(forecast.bytes) }}, {{ plural(forecast.rows, 'row') }}</h2>
      <p class="text-muted">{{ forecast.basis.kind === 'all' ? `All rows were counted; sizes are those of some that were written${forecast.rows > 2_000_000 ? ', from among the first two million' : ''}.` : `Reckoned from ${plural(forecast.basis.rows, 'row')} taken from all over.` }}<template v-if="forecast.existing.files > 0"> {{ plural(forecast.existing.files, 'file') }}, {{ bytesText(forecast.existing.bytes) }}, {{ forecast.existing.files === 1 ? 'stands' : 'stand' }} there now.</template></p>
      <div class="mt-2 grid gap-x-5 gap-y-2" :class="narrow ? 'order-last' : 'grid-cols-[minmax(0,1fr)_300px]'">
        <ul class="list-disc pl-4"><li v-for="each in forecast.says" :key="each">{{ each }}</li></ul>
        <dl class="grid content-start gap-1" aria-label="What it costs">
          <div v-for="each in forecast.costs" :key="each.what" class="grid grid-cols-[minmax(0,1fr)_auto] gap-x-2"><dt>{{ PARTS[each.what] }}<span v-if="each.memoryBytes > 0" class="text-muted">, {{ bytesText(each.memoryBytes) }}</span></dt><dd class="mono text-right">{{ millisText(each.millis) }}</dd><span class="col-span-2 h-1 bg-tide" :style="{ width: `${(100 * each.millis) / longest}%` }" /></div>
          <div class="flex justify-between border-t border-rule pt-1"><dt>together about</dt><dd class="mono">{{ millisText(total) }}</dd></div>
        </dl>
      </div>
      <FilesTree class="mt-3" :folders="forecast.folders" :folder-count="forecast.folderCount" :root="root" :width="narrow ? 110 : 260" />
    </div>
    <p v-else-if="!foreseeing.busy.value" class="mt-3 text-muted">Folders and files with their rows and sizes are shown here before anything is written. A trial writes some rows for real, to a folder of its own.</p>
  </section>
</template>
