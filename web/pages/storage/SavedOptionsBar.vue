<script setup lang="ts">
/** Takes read options that were saved under a name, saves these, or changes saved ones with all tables that follow. */
import { ref } from 'vue';
import type { ReadOptions } from '../../../core/folder/read-options';
import { call } from '../../api/client';
import type { SavedOptions } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import { plural } from '../../design/format';
import ProblemBox from '../../design/ProblemBox.vue';
import { useAct } from '../../stores/load';

const props = defineProps<{ saved: readonly SavedOptions[]; options: ReadOptions; changed: boolean }>();
const emit = defineEmits<{ take: [options: ReadOptions | undefined]; saved: [] }>();
const taken = ref('');
const name = ref('');
const { busy, problem, run } = useAct();

function take(): void {
  emit('take', props.saved.find((each) => each.name === taken.value)?.options);
}
async function save(): Promise<void> {
  if (!(await run(() => call('/read-options', { body: { name: name.value, options: props.options } })))) return;
  taken.value = name.value.trim();
  name.value = '';
  emit('saved');
}
async function changeSaved(): Promise<void> {
  if (await run(() => call(`/read-options/${encodeURIComponent(taken.value)}`, { method: 'PATCH', body: { options: props.options } }))) emit('saved');
}
const current = () => props.saved.find((each) => each.name === taken.value);
</script>

<template>
  <div class="flex flex-wrap items-end gap-2.5">
    <label class="grid gap-0.5"><span class="text-muted">Start from</span>
      <select v-model="taken" class="h-[29px] border border-rule bg-card px-1.5" @change="take"><option value="">as it seems</option><option v-for="each in saved" :key="each.name">{{ each.name }}</option></select>
    </label>
    <form v-if="changed" class="flex items-end gap-2" aria-label="Save these options" @submit.prevent="save">
      <label class="grid gap-0.5"><span class="text-muted">Save as</span><input v-model="name" required maxlength="200" class="h-[29px] w-36 border border-rule bg-card px-2" placeholder="lab sheets" autocomplete="off"></label>
      <BaseButton type="submit" :disabled="busy">Save</BaseButton>
    </form>
    <BaseButton v-if="changed && current()" :disabled="busy" @click="changeSaved">Change “{{ taken }}”{{ current()!.tables.length > 0 ? ` and ${plural(current()!.tables.length, 'table')} that follow` : '' }}</BaseButton>
    <button v-if="changed" type="button" class="plain-link pb-1.5" @click="taken = ''; emit('take', undefined)">back to as it seems</button>
    <ProblemBox v-if="problem" class="w-full" :problem="problem" />
  </div>
</template>
