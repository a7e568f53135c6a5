<script setup lang="ts">
/** Tries a storage and says what works and what is missing. */
import { call } from '../../api/client';
import type { CheckStep } from '../../api/types';
import { millisText } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import { useLoad } from '../../stores/load';

const props = defineProps<{ path: string; body: unknown }>();
const check = useLoad(() => call<{ steps: CheckStep[] }>(props.path, { body: props.body }));
void check.reload();
</script>

<template>
  <div class="mt-1.5">
    <ProblemBox v-if="check.problem.value" :problem="check.problem.value" />
    <LoadingLine v-else-if="!check.value.value" what="the answers of the store" />
    <table v-else class="text-left" aria-label="What works">
      <tbody><tr v-for="step in check.value.value.steps" :key="step.doing" class="border-t border-hairline align-top"><th class="py-0.5 pr-4 font-semibold" scope="row">{{ step.doing }}</th><td class="pr-4" :class="step.works ? 'text-kelp' : 'font-semibold text-rust'">{{ step.works ? 'works' : 'does not work' }}</td><td class="pr-4">{{ step.detail }}</td><td class="mono text-right text-muted">{{ millisText(step.millis) }}</td></tr></tbody>
    </table>
  </div>
</template>
