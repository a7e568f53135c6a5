<script setup lang="ts">
/** Holds a Delta log against itself, says what is wrong in words, and repairs what the commits prove. */
import { computed, ref } from 'vue';
import { call } from '../../api/client';
import type { LogCheck } from '../../api/delta-types';
import BaseButton from '../../design/BaseButton.vue';
import CheckField from '../../design/CheckField.vue';
import { plural } from '../../design/format';
import ProblemBox from '../../design/ProblemBox.vue';
import { useAct } from '../../stores/load';
import { findingsOf, rangesWords } from './log-check-words';

const props = defineProps<{ base: string }>();
const emit = defineEmits<{ repaired: [words: string] }>();
const { busy, problem, run } = useAct();
const report = ref<LogCheck>();
const closeGaps = ref(false);
const findings = computed(() => (report.value ? findingsOf(report.value) : []));
const canRepair = computed(() => findings.value.some((each) => each.repair === 'always') || (closeGaps.value && findings.value.some((each) => each.repair === 'gap')));

const check = () => run(async () => {
  report.value = await call<LogCheck>(`${props.base}/delta/log-check`);
});
const repair = () => run(async () => {
  const done = await call<{ checkpoints: number[]; checksums: number[]; closed: number[]; bounds: number }>(`${props.base}/delta/upkeep`, { body: { do: 'repair-log', closeGaps: closeGaps.value } });
  const parts = [
    ...(done.checkpoints.length > 0 ? [`${plural(done.checkpoints.length, 'checkpoint')} written again`] : []), ...(done.checksums.length > 0 ? [`${plural(done.checksums.length, 'checksum file')} removed`] : []),
    ...(done.closed.length > 0 ? [`${plural(done.closed.length, 'missing version')} closed`] : []), ...(done.bounds > 0 ? [`bounds of ${plural(done.bounds, 'file')} corrected`] : []),
  ];
  emit('repaired', parts.length > 0 ? `Repaired: ${parts.join(', ')}.` : 'There was nothing to repair.');
  report.value = await call<LogCheck>(`${props.base}/delta/log-check`);
});
</script>

<template>
  <article class="border border-rule bg-card px-4 py-3" aria-label="Check the log">
    <h2>Check the log</h2>
    <p class="mt-1">Reads every commit and checkpoint, and compares checkpoints, checksums and bounds with the commits. Nothing is changed.</p>
    <ProblemBox v-if="problem" class="mt-2" :problem="problem" />
    <div v-if="report" class="mt-2" role="status">
      <p v-if="findings.length === 0" class="border-l-2 border-kelp pl-2">Versions {{ report.oldest }} to {{ report.latest }} are whole.</p>
      <template v-else>
        <ul class="grid gap-1.5"><li v-for="each in findings" :key="each.words" class="border-l-2 border-rust pl-2">{{ each.words }}</li></ul>
        <p class="mt-2 text-muted">{{ rangesWords(report.versions) }}</p>
        <CheckField v-if="report.missing.length > 0" v-model="closeGaps" class="mt-2" label="Close missing versions with empty ones. If a commit was lost, its rows stay lost." />
      </template>
    </div>
    <p class="mt-2.5 flex gap-2.5">
      <BaseButton :disabled="busy" @click="check">{{ busy ? 'Reading the log …' : report ? 'Check again' : 'Check' }}</BaseButton>
      <BaseButton v-if="findings.length > 0" look="strong" :disabled="busy || !canRepair" @click="repair">Repair</BaseButton>
    </p>
  </article>
</template>
