<script setup lang="ts">
/** One change of the table's definition at a time: as SQL, with what it does and whom it concerns, before it is done. */
import { useDebounceFn } from '@vueuse/core';
import { computed, ref, watch } from 'vue';
import { call } from '../../api/client';
import type { TableDetail } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import SelectField from '../../design/SelectField.vue';
import TextField from '../../design/TextField.vue';
import { useAct, useLoad } from '../../stores/load';
import { tableName } from '../query/link';
import { alterSql, changesOf, emptyAlter, type AlterForm } from './alter-form';

const props = defineProps<{ detail: TableDetail; column: string }>();
const emit = defineEmits<{ changed: [] }>();
const form = ref<AlterForm>(emptyAlter());
watch(() => props.column, (column) => {
  if (column === '') return;
  form.value.column = column;
  if (form.value.kind === 'add') form.value.kind = 'rename';
}, { immediate: true });
watch(() => form.value.kind, (kind, before) => {
  if (kind === 'add' || kind === 'set' || before === 'add' || before === 'set') form.value.column = kind === 'add' || kind === 'set' ? '' : props.column;
  form.value.text = '';
});
const columns = computed(() => props.detail.columns.map(({ name }) => name));
const choices = computed(() => [{ value: '', words: 'which …' }, ...columns.value.map((value) => ({ value, words: value }))]);
const places = computed(() => [{ value: '', words: form.value.kind === 'add' ? 'last' : 'where …' }, { value: 'first', words: 'first' }, ...columns.value.filter((each) => each !== form.value.column).map((value) => ({ value, words: `after ${value}` }))]);
const TRANSFORMS = ['', 'year', 'month', 'day', 'hour', 'bucket(16)', 'truncate(4)'].map((value) => ({ value, words: value === '' ? 'its values' : value }));
const has = (...kinds: AlterForm['kind'][]) => kinds.includes(form.value.kind);
const TEXTS: Partial<Record<AlterForm['kind'], string>> = { add: 'What it is', rename: 'Its new name', comment: 'What it is', key: 'Columns', order: 'Columns', set: 'Its value' };

const sql = computed(() => alterSql(tableName(props.detail.namespace, props.detail.name), form.value));
const plan = useLoad(() => (sql.value === undefined ? Promise.resolve({ does: [] }) : call<{ does: string[] }>('/query/plan', { body: { sql: sql.value } })));
const planSoon = useDebounceFn(plan.reload, 250);
watch(sql, () => void planSoon(), { immediate: true });
const done = ref('');
const { busy, problem, run } = useAct();
watch(sql, () => (done.value = ''));
async function change(): Promise<void> {
  const statement = sql.value;
  if (statement === undefined || !(await run(() => call('/query', { body: { sql: statement } })))) return;
  form.value = emptyAlter();
  emit('changed');
  await Promise.resolve();
  done.value = statement;
}
</script>

<template>
  <form class="grid gap-2" aria-label="Change the table" @submit.prevent="change">
    <h2>Change the table</h2>
    <SelectField v-model="form.kind" label="What" :choices="changesOf(detail.format)" />
    <SelectField v-if="has('rename', 'widen', 'optional', 'comment', 'move', 'drop', 'divide', 'undivide')" v-model="form.column" label="Column" :choices="choices" />
    <TextField v-if="has('add', 'set')" v-model="form.column" :label="has('set') ? 'Property' : 'Its name'" mono :hint="has('add') ? 'struct.name inside a struct' : ''" />
    <TextField v-if="has('add', 'widen')" v-model="form.type" label="Type" mono />
    <SelectField v-if="has('divide', 'undivide')" v-model="form.transform" label="By" :choices="TRANSFORMS" />
    <TextField v-if="TEXTS[form.kind]" v-model="form.text" :label="TEXTS[form.kind]!" :mono="!has('add', 'comment')" :placeholder="has('key', 'order') ? 'site, taken_at' : ''" />
    <SelectField v-if="has('add', 'move')" v-model="form.after" label="Place" :choices="places" />
    <template v-if="sql !== undefined">
      <pre class="mono overflow-auto bg-paper px-2 py-1.5 whitespace-pre-wrap" tabindex="0" aria-label="The change as SQL">{{ sql }}</pre>
      <ul v-if="plan.value.value && plan.value.value.does.length > 0" class="list-disc pl-4" aria-label="What it does"><li v-for="each in plan.value.value.does" :key="each">{{ each }}</li></ul>
      <ProblemBox v-if="problem ?? plan.problem.value" :problem="(problem ?? plan.problem.value)!" />
      <p><BaseButton type="submit" :look="form.kind === 'drop' ? 'danger' : 'plain'" :disabled="busy">{{ busy ? 'Working …' : 'Do it' }}</BaseButton></p>
    </template>
    <p v-if="done" class="text-kelp" role="status">Done. No file was rewritten; the versions before stay readable.</p>
  </form>
</template>
