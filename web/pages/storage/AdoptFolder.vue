<script setup lang="ts">
/** A folder of Parquet files becomes a table in place, and comes into the catalog. */
import { ref } from 'vue';
import { useRouter } from 'vue-router';
import { nameSql } from '../../../core/sql/table-sql';
import { quoteText } from '../../../core/sql/tokens';
import { call, tableLink } from '../../api/client';
import BaseButton from '../../design/BaseButton.vue';
import { plural } from '../../design/format';
import ProblemBox from '../../design/ProblemBox.vue';
import SelectField from '../../design/SelectField.vue';
import TextField from '../../design/TextField.vue';
import { useAct } from '../../stores/load';

const props = defineProps<{ storage: string; path: string; files: number }>();
const router = useRouter();
const steps = props.path.split('/');
const asName = (step: string | undefined) => (step ?? '').replace(/[^A-Za-z0-9_]+/g, '_').toLowerCase();
const namespace = ref(asName(steps.length > 1 ? steps[0] : props.storage));
const name = ref(asName(steps.at(-1)));
const format = ref<'iceberg' | 'delta'>('iceberg');
const adopted = ref(false);
const { busy, problem, run } = useAct();
async function adopt(): Promise<void> {
  const table = [...namespace.value.trim().split('.'), name.value.trim()].map(nameSql).join('.');
  await run(async () => {
    // Made once, also when its name must be chosen again.
    if (!adopted.value) await call(`/storages/${encodeURIComponent(props.storage)}/adopt`, { body: { path: props.path, format: format.value } });
    adopted.value = true;
    await call('/query', { body: { sql: `CREATE NAMESPACE IF NOT EXISTS ${namespace.value.trim().split('.').map(nameSql).join('.')}` } });
    await call('/query', { body: { sql: `CREATE TABLE ${table} WITH (location = ${quoteText(`${props.storage}:${props.path}`)})` } });
    await router.push(tableLink(`${namespace.value.trim()}.${name.value.trim()}`));
  });
}
</script>

<template>
  <form class="mt-4 max-w-xl border border-rule bg-paper px-4 py-3" aria-label="Make it a table in place" @submit.prevent="adopt">
    <h3 class="font-semibold">Make it a table in place</h3>
    <p class="mt-1">{{ plural(files, 'Parquet file') }} of this folder, and those in folders below it, stay as they are; metadata is written beside them, so that from now on rows can be changed and every version read.</p>
    <div class="mt-2 grid grid-cols-3 gap-2"><TextField v-model="namespace" label="Namespace" mono required /><TextField v-model="name" label="Name" mono required /><SelectField v-model="format" label="Format" :choices="[{ value: 'iceberg', words: 'Iceberg' }, { value: 'delta', words: 'Delta' }]" /></div>
    <ProblemBox v-if="problem" class="mt-2" :problem="problem" />
    <p class="mt-2"><BaseButton type="submit" :disabled="busy || name.trim() === '' || namespace.trim() === ''">{{ busy ? 'Working …' : 'Make it a table' }}</BaseButton></p>
  </form>
</template>
