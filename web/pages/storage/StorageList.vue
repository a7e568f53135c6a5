<script setup lang="ts">
/** The connected storages, and a line to connect another. */
import { ref } from 'vue';
import { call } from '../../api/client';
import BaseButton from '../../design/BaseButton.vue';
import EmptyState from '../../design/EmptyState.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import { useAct } from '../../stores/load';

defineProps<{ storages: { name: string; kind: string }[] }>();
const emit = defineEmits<{ connected: [name: string] }>();
const name = ref('');
const location = ref('');
const { busy, problem, run } = useAct();
async function connect(): Promise<void> {
  if (await run(() => call('/storages', { body: { name: name.value, location: location.value } }))) emit('connected', name.value.trim());
}
</script>

<template>
  <EmptyState v-if="storages.length === 0" title="No storage is connected">Name a folder of this machine below. Its files are read where they are; connecting changes nothing in it.</EmptyState>
  <ul v-else class="mb-3 max-w-2xl border border-rule bg-card">
    <li v-for="each in storages" :key="each.name" class="border-b border-hairline last:border-b-0"><RouterLink class="flex items-baseline gap-3 px-4 py-2.5 hover:bg-paper" :to="`/storage/${encodeURIComponent(each.name)}`"><b class="font-semibold">{{ each.name }}</b><span class="text-muted">a local folder</span><span class="plain-link ml-auto">look inside</span></RouterLink></li>
  </ul>
  <form class="flex max-w-2xl flex-wrap items-end gap-3 border border-rule bg-card px-4 py-3" aria-label="Connect a folder" @submit.prevent="connect">
    <label class="grid gap-0.5"><span class="text-muted">Name</span><input v-model="name" required maxlength="60" class="h-[29px] w-36 border border-rule bg-card px-2" placeholder="survey-data" autocomplete="off" spellcheck="false"></label>
    <label class="grid flex-1 gap-0.5"><span class="text-muted">Folder on this machine, as a full path</span><input v-model="location" required class="mono h-[29px] w-full border border-rule bg-card px-2" placeholder="/data/survey" autocomplete="off" spellcheck="false"></label>
    <BaseButton :look="storages.length === 0 ? 'strong' : 'plain'" type="submit" :disabled="busy">Connect a folder</BaseButton>
    <ProblemBox v-if="problem" class="w-full" :problem="problem" />
  </form>
</template>
