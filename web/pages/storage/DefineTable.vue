<script setup lang="ts">
/** Registers a table over the files of the pattern: its name, how the files are read, its columns with their types. */
import { computed, reactive, ref, watch } from 'vue';
import type { ReadOptions } from '../../../core/folder/read-options';
import { describeOptions } from '../../../core/folder/read-options';
import { tableName } from '../../../core/crawl/names';
import { call, tableLink } from '../../api/client';
import type { SavedOptions } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import { bytesText, plural } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import TextField from '../../design/TextField.vue';
import { useAct, useLoad } from '../../stores/load';
import { TYPES } from './reading-words';

const props = defineProps<{ storage: string; pattern: string; /** How the chosen file is being read, where that was changed. */ reading: ReadOptions | undefined }>();
const emit = defineEmits<{ close: [] }>();
interface Defined {
  root: string;
  files: number;
  bytes: number;
  options: ReadOptions;
  columns: { name: string; type: string; fromPath: boolean }[];
}
const fixedSteps = computed(() => props.pattern.split('/').filter((step) => !/[*{}]/.test(step)));
const namespace = ref(tableName(fixedSteps.value[0] ?? props.storage));
const name = ref(tableName(fixedSteps.value.findLast((step) => /^\p{L}/u.test(step)) ?? props.storage));
const readWith = ref('');
const columns = reactive<{ name: string; type: string; fromPath: boolean; keep: boolean }[]>([]);
const reading = computed(() => (readWith.value ? { readWith: readWith.value } : props.reading ? { options: props.reading } : {}));
const defined = useLoad(() => call<Defined>('/files/define', { body: { storage: props.storage, pattern: props.pattern, ...reading.value } }));
const saved = useLoad(() => call<SavedOptions[]>('/read-options'));
void saved.reload();
watch(() => [props.storage, props.pattern, reading.value], () => void defined.reload(), { immediate: true });
watch(() => defined.value.value, (now) => now && columns.splice(0, Infinity, ...now.columns.map((column) => ({ ...column, keep: true }))));
const positional = computed(() => defined.value.value?.options.format === 'csv' && !defined.value.value.options.header);
const { busy, problem, run } = useAct();
const made = ref('');

async function register(): Promise<void> {
  const body = { storage: props.storage, pattern: props.pattern, ...reading.value, namespace: namespace.value, name: name.value, columns: columns.filter((column) => column.keep || positional.value).map((column) => ({ name: column.name, type: column.type })) };
  if (await run(() => call('/catalog', { body }))) made.value = `${namespace.value}.${name.value}`;
}
</script>

<template>
  <section class="min-h-0 overflow-auto border border-rule bg-card px-4 py-3" aria-label="Define a table" @keydown.esc="emit('close')">
    <header class="flex items-baseline gap-3"><h2>Define a table</h2><span class="mono min-w-0 truncate text-muted" :title="pattern">{{ pattern }}</span><button class="plain-link ml-auto shrink-0" @click="emit('close')">close</button></header>
    <p v-if="made" role="status" class="mt-2"><b class="text-kelp">Registered {{ made }}.</b> The files stay where they are; new ones that match appear by themselves. <RouterLink class="plain-link" :to="tableLink(made)">Open the table</RouterLink></p>
    <template v-else>
      <ProblemBox v-if="defined.problem.value" class="mt-2" :problem="defined.problem.value" can-retry @retry="defined.reload" />
      <LoadingLine v-else-if="!defined.value.value" what="what the files hold" />
      <form v-else class="mt-2" @submit.prevent="register">
        <div class="flex flex-wrap items-end gap-3">
          <TextField v-model="namespace" class="w-40" label="Namespace" required /><TextField v-model="name" class="w-48" label="Table" required />
          <label class="grid gap-0.5"><span class="text-muted">Read</span><select v-model="readWith" class="h-[29px] border border-rule bg-card px-1.5"><option value="">{{ props.reading ? 'as the chosen file is' : 'as it seems' }}</option><option v-for="each in saved.value.value" :key="each.name" :value="each.name">with “{{ each.name }}”</option></select></label>
        </div>
        <p class="mt-1.5 text-muted">{{ plural(defined.value.value.files, 'file') }}, {{ bytesText(defined.value.value.bytes) }}: {{ describeOptions(defined.value.value.options) }}.</p>
        <table class="mt-2 w-full text-left">
          <thead class="border-b border-ink"><tr><th class="py-1">Column</th><th>Type</th><th>From</th><th v-if="!positional"><span class="sr-only">Keep</span></th></tr></thead>
          <tbody>
            <tr v-for="(column, index) in columns" :key="index" class="border-b border-hairline" :class="column.keep ? '' : 'text-muted line-through'">
              <td class="py-0.5 pr-3"><input v-if="positional && !column.fromPath" v-model="column.name" required class="mono h-[25px] w-full border border-rule bg-card px-1.5" :aria-label="`Name of column ${index + 1}`" spellcheck="false"><span v-else class="mono">{{ column.name }}</span></td>
              <td class="pr-3"><select v-model="column.type" class="mono h-[25px] max-w-52 border border-rule bg-card px-1" :aria-label="`Type of ${column.name}`"><option v-for="type in [...new Set([column.type, ...TYPES])]" :key="type">{{ type }}</option></select></td>
              <td class="text-muted">{{ column.fromPath ? 'the path' : 'the files' }}</td>
              <td v-if="!positional" class="text-right"><button type="button" class="plain-link" @click="column.keep = !column.keep">{{ column.keep ? 'leave out' : 'keep' }}</button></td>
            </tr>
          </tbody>
        </table>
        <ProblemBox v-if="problem" class="mt-2" :problem="problem" />
        <p class="mt-3 flex items-center gap-3"><BaseButton look="strong" type="submit" :disabled="busy">Register {{ namespace }}.{{ name }}</BaseButton><span class="text-muted">Tried on the first and last file before it is kept.</span></p>
      </form>
    </template>
  </section>
</template>
