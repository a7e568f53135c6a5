<script setup lang="ts">
/** Each step of the files' paths with a choice: this, any, column; what the pattern makes of them follows at once. */
import { useDebounceFn } from '@vueuse/core';
import { computed, watch } from 'vue';
import { call } from '../../api/client';
import type { PathRuler } from '../../../core/crawl/path-ruler';
import { joinDates } from '../../../core/folder/path-pattern';
import BaseButton from '../../design/BaseButton.vue';
import { countText, plural } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import { useLoad } from '../../stores/load';
import { choiceOf, columnOfStep, gapText, withChoice, withName, type StepChoice } from './ruler-steps';

const props = defineProps<{ storage: string; path: string }>();
/** The pattern from the storage's root; '' until one is suggested or given. */
const pattern = defineModel<string>('pattern', { required: true });
defineEmits<{ query: []; define: [] }>();
const ruler = useLoad(() => call<PathRuler>(`/storages/${encodeURIComponent(props.storage)}/ruler?${new URLSearchParams({ path: props.path, ...(pattern.value ? { pattern: pattern.value } : {}) })}`));
watch(() => [props.storage, props.path], () => void ruler.reload(), { immediate: true });
watch(pattern, useDebounceFn(() => void ruler.reload(), 200));
const shown = computed(() => ruler.value.value);
const current = computed(() => pattern.value || shown.value?.pattern || '');
const joined = computed(() => joinDates(current.value));
const texts = computed(() => current.value.split('/'));
const CHOICES: readonly StepChoice[] = ['this', 'any', 'column'];
const columnOf = (at: number) => shown.value?.columns.find((column) => column.name === columnOfStep(texts.value[at] ?? ''));
function choose(at: number, choice: StepChoice): void {
  pattern.value = withChoice(texts.value, shown.value!.steps, at, choice).join('/');
}
function rename(at: number, name: string): void {
  if (name.trim() !== '') pattern.value = withName(texts.value, at, name.trim()).join('/');
}
</script>

<template>
  <section class="mb-3.5 shrink-0 border border-ink bg-card px-4 pt-2.5 pb-2" aria-label="Read as one table">
    <LoadingLine v-if="!shown && !ruler.problem.value" what="the paths" />
    <template v-if="shown">
      <header class="flex flex-wrap items-center gap-x-3 gap-y-1">
        <h2>Read as one table</h2>
        <span class="text-muted">Say what each step of the path is. <b class="text-ink">{{ countText(shown.matching) }} of {{ plural(shown.of, 'file') }} match</b>, {{ countText(shown.of - shown.matching) }} left over.</span>
        <span class="ml-auto flex gap-2.5"><BaseButton :disabled="shown.matching === 0" @click="$emit('query')">Query these files</BaseButton><BaseButton look="strong" :disabled="shown.matching === 0" @click="$emit('define')">Define a table</BaseButton></span>
      </header>
      <ol class="mt-2 flex overflow-x-auto border-b border-ink" aria-label="Steps of the path">
        <li v-for="(step, at) in shown.steps" :key="at" class="min-w-[132px] flex-1 border-l border-ink px-2.5 pb-1.5">
          <p class="mono truncate font-semibold" :title="step.some.join(', ')">{{ step.example }}</p>
          <div class="my-1 inline-flex" role="radiogroup" :aria-label="`Step ${at + 1}, ${step.example}`">
            <button
              v-for="choice in CHOICES" :key="choice" type="button" role="radio" :aria-checked="choiceOf(texts[at] ?? '') === choice"
              class="-ml-px border border-rule px-1.5 text-small first:ml-0" :class="choiceOf(texts[at] ?? '') === choice ? (choice === 'column' ? 'border-tide bg-tide text-on-strong' : 'border-ink bg-ink text-card') : 'hover:border-ink'" @click="choose(at, choice)"
            >{{ choice }}</button>
          </div>
          <template v-if="columnOfStep(texts[at] ?? '') !== undefined">
            <p class="flex items-baseline gap-1"><input :value="columnOfStep(texts[at] ?? '')" class="mono w-20 min-w-0 border-b border-dotted border-tide bg-transparent text-tide outline-none focus:border-solid" :aria-label="`Column name of step ${at + 1}`" spellcheck="false" @change="rename(at, ($event.target as HTMLInputElement).value)"><span class="truncate text-muted">{{ columnOf(at)?.type }}</span></p>
            <p class="truncate text-muted" :title="columnOf(at)?.missingSome.join(', ')">{{ columnOf(at) ? gapText(columnOf(at)!) : '' }}</p>
          </template>
          <p v-else class="text-muted">{{ choiceOf(texts[at] ?? '') === 'this' ? 'fixed' : plural(step.values, 'value') }}</p>
        </li>
      </ol>
      <p class="flex flex-wrap items-center gap-x-4 gap-y-1 pt-1.5">
        <input :value="current" class="mono min-w-72 flex-1 bg-transparent outline-none" aria-label="The pattern" spellcheck="false" @change="pattern = ($event.target as HTMLInputElement).value">
        <button v-if="joined" type="button" class="border border-tide/40 bg-tide-soft px-2 text-small text-tide" @click="pattern = joined">join year, month, day into one date column</button>
        <span v-if="shown.leftOver.length > 0" class="w-full truncate text-rust" :title="shown.leftOver.join('\n')">Left over: {{ shown.leftOver.slice(0, 3).join(', ') }}{{ shown.of - shown.matching > 3 ? ' …' : '' }}</span>
      </p>
    </template>
    <ProblemBox v-if="ruler.problem.value" class="mt-2" :problem="ruler.problem.value" />
  </section>
</template>
