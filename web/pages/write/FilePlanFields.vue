<script setup lang="ts">
/** How rows are cut into files: a goal, from which the rest follows. */
import { computed } from 'vue';
import SelectField from '../../design/SelectField.vue';
import TextField from '../../design/TextField.vue';
import { sizeProblem, type FilePlanForm } from './write-form';

const plan = defineModel<FilePlanForm>({ required: true });
const props = defineProps<{ columns: readonly string[]; perFolder: boolean }>();
const GOALS = [{ value: 'size' as const, words: 'files of about a size' }, { value: 'at-most' as const, words: 'at most so many files' }, { value: 'one' as const, words: 'one file' }, { value: 'per-key' as const, words: 'a file for each key' }];
const MECHANISMS = [{ value: '', words: 'as it follows' }, { value: 'hash', words: 'by hash' }, { value: 'range', words: 'by range' }, { value: 'even', words: 'counted off' }];
const isCut = computed(() => plan.value.goal === 'size' || plan.value.goal === 'at-most');
const wrong = computed(() => sizeProblem(plan.value));
const goals = computed(() => GOALS.map((each) => ({ ...each, words: props.perFolder ? `${each.words}, in each folder` : each.words })));
</script>

<template>
  <div>
    <div class="grid grid-cols-[minmax(0,1fr)_96px] items-end gap-2">
      <SelectField v-model="plan.goal" label="The goal" :choices="goals" />
      <TextField v-if="plan.goal === 'size'" v-model="plan.size" label="Size" mono />
      <label v-else-if="plan.goal === 'at-most'" class="grid gap-0.5"><span class="text-muted">Files</span><input v-model.number="plan.files" type="number" min="1" max="10000" class="mono h-[29px] w-full border border-rule bg-card px-2"></label>
    </div>
    <p v-if="wrong" class="mt-1 text-rust" role="alert">{{ wrong }}</p>
    <div class="mt-2 grid grid-cols-2 gap-2">
      <TextField v-if="plan.goal !== 'one'" v-model="plan.by" :label="plan.goal === 'per-key' ? 'The key' : 'Rows go by'" mono :placeholder="plan.goal === 'per-key' ? 'columns' : 'their number'" />
      <SelectField v-if="isCut && plan.by.trim() !== ''" v-model="plan.mechanism" label="Cut" :choices="MECHANISMS" />
      <TextField v-model="plan.sort" label="Order in each file" mono placeholder="none" />
    </div>
    <p v-if="columns.length > 0" class="mt-1 truncate text-small text-muted" :title="columns.join(', ')">Columns: <span class="mono">{{ columns.join(', ') }}</span></p>
  </div>
</template>
