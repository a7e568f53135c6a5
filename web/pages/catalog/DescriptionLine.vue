<script setup lang="ts">
/** A description that is changed where it stands. */
import { nextTick, ref } from 'vue';
import { call } from '../../api/client';
import ProblemBox from '../../design/ProblemBox.vue';
import { useAct } from '../../stores/load';

const props = defineProps<{ namespace: string; name: string; description: string }>();
const editing = ref(false);
const text = ref('');
const box = ref<HTMLTextAreaElement>();
const { busy, problem, run } = useAct();
async function edit(): Promise<void> {
  text.value = props.description;
  editing.value = true;
  await nextTick();
  box.value?.focus();
}
async function save(): Promise<void> {
  if (await run(() => call(`/catalog/${encodeURIComponent(props.namespace)}/${encodeURIComponent(props.name)}`, { method: 'PATCH', body: { description: text.value } }))) editing.value = false;
}
</script>

<template>
  <form v-if="editing" class="mt-1" @submit.prevent="save" @keydown.esc="editing = false">
    <textarea ref="box" v-model="text" rows="2" maxlength="2000" class="w-full border border-rule bg-card px-2 py-1" aria-label="Description" @keydown.enter.exact.prevent="save"></textarea>
    <ProblemBox v-if="problem" :problem="problem" />
    <p class="flex gap-3"><button class="plain-link" type="submit" :disabled="busy">keep</button><button class="plain-link text-muted" type="button" @click="editing = false">leave it</button></p>
  </form>
  <p v-else class="mt-1">{{ description }} <button class="plain-link text-muted" @click="edit">{{ description ? 'change' : 'describe it' }}</button></p>
</template>
