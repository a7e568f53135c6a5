<script setup lang="ts">
import { ref } from 'vue';
import { call } from '../../api/client';
import BaseButton from '../../design/BaseButton.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import TextField from '../../design/TextField.vue';
import { useAct } from '../../stores/load';

defineProps<{ first: boolean }>();
const emit = defineEmits<{ connected: [name: string] }>();
const name = ref('');
const location = ref('');
const { busy, problem, run } = useAct();
async function connect(): Promise<void> {
  if (await run(() => call('/storages', { body: { name: name.value, location: location.value } }))) emit('connected', name.value.trim());
}
</script>

<template>
  <form class="flex flex-wrap items-end gap-3" aria-label="Connect a folder" @submit.prevent="connect">
    <TextField v-model="name" class="w-36" label="Name" placeholder="survey-data" required /><TextField v-model="location" class="flex-1" mono label="Folder on this machine, as a full path" placeholder="/data/survey" required />
    <BaseButton :look="first ? 'strong' : 'plain'" type="submit" :disabled="busy">Connect a folder</BaseButton>
    <ProblemBox v-if="problem" class="w-full" :problem="problem" />
  </form>
</template>
