<script setup lang="ts">
/** What a crawl guessed, to be put right before it counts: the name, and the columns' names and types. */
import { computed, reactive, ref } from 'vue';
import { call } from '../../api/client';
import type { ReadOptions } from '../../../core/folder/read-options';
import type { FileLook, Finding, SavedOptions } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import { useAct, useLoad } from '../../stores/load';
import ReadOptionsForm from '../storage/ReadOptionsForm.vue';

const props = defineProps<{ finding: Finding; storage: string }>();
const emit = defineEmits<{ close: []; corrected: [] }>();
const TYPES = ['varchar', 'bigint', 'integer', 'double', 'decimal(18,2)', 'boolean', 'date', 'timestamp', 'timestamptz', 'time', 'uuid'];
const namespace = ref(props.finding.namespace);
const name = ref(props.finding.name);
const folder = computed(() => (props.finding.definition?.kind === 'folder' ? props.finding.definition.folder : undefined));
/** Without a header the columns have no names of their own. */
const canRename = (column: string) => folder.value?.options.format === 'csv' && folder.value.options.header === false && !folder.value.partitionColumns.includes(column);
const columns = reactive(props.finding.evidence.columns.map((column) => ({ was: column.name, wasType: column.type, name: column.name, type: column.type })));
const saved = useLoad(() => call<SavedOptions[]>('/read-options'));
void saved.reload();
const readWith = ref('');
const options = ref<ReadOptions>();
const changing = ref(false);
const lines = useLoad(() => call<FileLook>(`/storages/${encodeURIComponent(props.storage)}/look?${new URLSearchParams({ path: props.finding.evidence.example ?? '' })}`));
function openOptions(): void {
  changing.value = !changing.value;
  if (changing.value && props.finding.evidence.example) void lines.reload();
}
const { busy, problem, run } = useAct();

async function save(): Promise<void> {
  const changed = columns.filter((each) => each.name !== each.was || each.type !== each.wasType).map((each) => ({ name: each.was, ...(each.name !== each.was ? { rename: each.name } : {}), ...(each.type !== each.wasType ? { type: each.type } : {}) }));
  const reading = readWith.value ? { readWith: readWith.value } : options.value ? { options: options.value } : {};
  const body = { namespace: namespace.value, name: name.value, ...reading, ...(changed.length > 0 ? { columns: changed } : {}) };
  if (await run(() => call(`/findings/${props.finding.id}/correct`, { body }))) emit('corrected');
}
</script>

<template>
  <form class="my-2 border-l-2 border-dusk pl-3" aria-label="Correct it" @submit.prevent="save" @keydown.esc="emit('close')">
    <p class="flex items-end gap-1.5">
      <label class="grid min-w-0 flex-1"><span class="text-muted">Namespace</span><input v-model="namespace" required class="h-[29px] w-full border border-rule bg-card px-2" spellcheck="false"></label><span class="pb-1">.</span>
      <label class="grid min-w-0 flex-1"><span class="text-muted">Table</span><input v-model="name" required class="h-[29px] w-full border border-rule bg-card px-2" spellcheck="false"></label>
    </p>
    <template v-if="folder && folder.options.format !== 'parquet'">
      <p class="mt-2 flex items-end gap-3"><label class="grid gap-0.5"><span class="text-muted">Read with</span><select v-model="readWith" class="h-[29px] border border-rule bg-card px-1.5"><option value="">what was found</option><option v-for="each in saved.value.value" :key="each.name">{{ each.name }}</option></select></label><button v-if="!readWith" type="button" class="plain-link pb-1.5" :aria-expanded="changing" @click="openOptions">change how it is read</button></p>
      <ReadOptionsForm v-if="changing && !readWith" class="mt-2" :model-value="options ?? folder.options" :lines="lines.value.value?.lines ?? []" @update:model-value="(next: ReadOptions) => (options = next)" />
    </template>
    <div v-if="folder && !options && !readWith" class="mt-2 max-h-64 overflow-auto">
      <p v-for="column in columns" :key="column.was" class="flex items-center gap-1.5 py-px">
        <input v-if="canRename(column.was)" v-model="column.name" required class="mono h-[25px] min-w-0 flex-1 border border-rule bg-card px-1.5" :aria-label="`Name of ${column.was}`" spellcheck="false">
        <span v-else class="mono min-w-0 flex-1 truncate" :title="column.was">{{ column.was }}</span>
        <select v-model="column.type" class="mono h-[25px] w-36 border border-rule bg-card px-1" :aria-label="`Type of ${column.was}`"><option v-for="type in [...new Set([column.wasType, ...TYPES])]" :key="type">{{ type }}</option></select>
      </p>
    </div>
    <ProblemBox v-if="problem" class="mt-2" :problem="problem" />
    <p class="mt-2 flex gap-2"><BaseButton look="strong" type="submit" :disabled="busy">Correct it</BaseButton><BaseButton @click="emit('close')">Leave it</BaseButton></p>
    <p class="mt-1 text-small text-muted">Tried on the files before it is kept.</p>
  </form>
</template>
