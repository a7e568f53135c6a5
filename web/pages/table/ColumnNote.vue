<script setup lang="ts">
/** What people know of a column, beside what the table itself says of it; changed where it stands. */
import { computed, ref } from 'vue';
import { call } from '../../api/client';
import type { TableDetail } from '../../api/types';
import ProblemBox from '../../design/ProblemBox.vue';
import TagMark from '../../design/TagMark.vue';
import { useAct } from '../../stores/load';

const props = defineProps<{ detail: TableDetail; column: string; comment: string | null }>();
const note = computed(() => props.detail.notes[props.column] ?? { description: '', tags: [] });
const editing = ref(false);
const description = ref('');
const tags = ref('');
const { busy, problem, run } = useAct();
function edit(): void {
  description.value = note.value.description;
  tags.value = note.value.tags.join(', ');
  editing.value = true;
}
async function save(): Promise<void> {
  const value = { description: description.value.trim(), tags: [...new Set(tags.value.split(',').map((tag) => tag.trim()).filter(Boolean))] };
  const isEmpty = value.description === '' && value.tags.length === 0;
  const body = { notes: { [props.column]: isEmpty ? null : value } };
  if (await run(() => call(`/catalog/${encodeURIComponent(props.detail.namespace)}/${encodeURIComponent(props.detail.name)}`, { method: 'PATCH', body }))) editing.value = false;
}
</script>

<template>
  <form v-if="editing" class="flex flex-wrap gap-1.5" :aria-label="`Describe ${column}`" @submit.prevent="save" @keydown.esc="editing = false">
    <input v-model="description" class="h-[25px] min-w-40 flex-1 border border-rule bg-card px-1.5" placeholder="what it holds" :aria-label="`Description of ${column}`" maxlength="2000"><input v-model="tags" class="h-[25px] w-28 border border-rule bg-card px-1.5" placeholder="tags" :aria-label="`Tags of ${column}`">
    <button class="plain-link" type="submit" :disabled="busy">keep</button><button class="plain-link text-muted" type="button" @click="editing = false">leave it</button>
    <ProblemBox v-if="problem" class="w-full" :problem="problem" />
  </form>
  <span v-else><span class="text-muted">{{ comment }}</span> {{ note.description }} <TagMark v-for="tag in note.tags" :key="tag" class="mr-1">{{ tag }}</TagMark><button class="plain-link text-small text-muted" :aria-label="`Describe ${column}`" @click="edit">{{ note.description ? 'change' : 'describe' }}</button></span>
</template>
