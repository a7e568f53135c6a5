<script setup lang="ts">
/** A table is defined in a form and as SQL side by side; each follows the other. */
import { computed, ref, watch } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import { columnsOfJson } from '../../../core/schema/json-columns';
import { call, tableLink } from '../../api/client';
import type { QueryResult } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import SelectField from '../../design/SelectField.vue';
import SqlEditor from '../../design/SqlEditor.vue';
import TextField from '../../design/TextField.vue';
import PageFrame from '../../shell/PageFrame.vue';
import { useCatalog } from '../../stores/catalog';
import { useAct } from '../../stores/load';
import { useSqlForm } from '../../stores/sql-form';
import { tableName } from '../query/link';
import FilePlanFields from '../write/FilePlanFields.vue';
import ForecastPanel from '../write/ForecastPanel.vue';
import { emptyPlan } from '../write/write-form';
import ColumnRows from './ColumnRows.vue';
import { columnRow, emptyForm, formOf, SIZED, sqlOf, type TableForm } from './table-form';

const route = useRoute();
const router = useRouter();
const catalog = useCatalog();
void catalog.refresh();
const form = ref<TableForm>(emptyForm(typeof route.query.namespace === 'string' ? route.query.namespace : ''));
const { sql, wrong, marked, onText } = useSqlForm(form, sqlOf, formOf);

const names = computed(() => form.value.columns.map(({ name }) => name).filter((name) => name !== ''));
const placesOfRows = computed(() => (form.value.query === '' ? names.value : []));
const TRANSFORMS = ['identity', 'year', 'month', 'day', 'hour', 'bucket', 'truncate'];
const transforms = computed(() => TRANSFORMS.filter((each) => form.value.format === 'iceberg' || each === 'identity').map((value) => ({ value, words: value === 'identity' ? 'as it is' : value })));
watch(() => form.value.format, (format) => {
  if (format !== 'iceberg') {
    form.value.orderBy = [];
    for (const each of form.value.partitionBy) each.transform = 'identity';
  }
});

const start = ref<'nothing' | 'table' | 'files' | 'query' | 'json'>('nothing');
const STARTS = [{ value: 'nothing', words: 'nothing' }, { value: 'table', words: 'another table' }, { value: 'files', words: 'files' }, { value: 'query', words: 'a query' }, { value: 'json', words: 'a JSON schema' }] as const;
const startText = ref('');
const HINTS = { nothing: '', table: 'namespace.table', files: 'storage:path/to/files', query: 'SELECT …', json: '{"properties": …}' };
const starting = useAct();

async function takeColumns(withRows: boolean): Promise<void> {
  await starting.run(async () => {
    const text = startText.value.trim();
    if (start.value === 'json') {
      form.value.columns = columnsOfJson(text).map((column) => columnRow(column));
      form.value.query = '';
      return;
    }
    if (start.value === 'table' && !withRows) {
      const { rows } = await call<QueryResult>('/query', { body: { sql: `SHOW CREATE TABLE ${text}` } });
      const like = formOf(String(rows[0]![0]));
      const { namespace, name, format } = form.value;
      form.value = { ...like, namespace: namespace || like.namespace, name, format, location: '', properties: format === like.format ? like.properties : [] };
      return;
    }
    const query = start.value === 'query' ? text : start.value === 'files' ? `SELECT * FROM "${text.replaceAll('"', '""')}"` : `SELECT * FROM ${text}`;
    if (withRows) {
      await call('/query/plan', { body: { sql: query } });
      form.value.query = query;
      form.value.columns = [];
      return;
    }
    const { columns } = await call<QueryResult>('/query', { body: { sql: `SELECT * FROM (${query}) LIMIT 0` } });
    form.value.columns = columns.map(({ name, type }) => ({ name, type, required: false, key: false, comment: '' }));
    form.value.query = '';
  });
}

const { busy, problem, run } = useAct();
async function create(): Promise<void> {
  const [namespace, name] = [form.value.namespace.trim(), form.value.name.trim()];
  if (await run(() => call('/query', { body: { sql: sql.value } }))) await router.push(tableLink(`${namespace}.${name}`));
}
const missingNamespace = computed(() => form.value.namespace.trim() !== '' && !catalog.loading && !catalog.namespaces.some((each) => each.name.toLowerCase() === form.value.namespace.trim().toLowerCase()));
async function makeNamespace(): Promise<void> {
  await run(() => call('/namespaces', { body: { name: form.value.namespace.trim() } }));
  await catalog.refresh();
}
</script>

<template>
  <PageFrame :steps="[{ label: 'Catalog', to: '/catalog' }, { label: 'Define a table' }]">
    <template #title><h1>Define a table</h1><span class="text-muted">The form and the SQL say the same; change either.</span></template>
    <div class="grid min-h-0 flex-1 grid-cols-[minmax(0,1.45fr)_minmax(0,1fr)] gap-3.5">
      <form class="min-h-0 overflow-auto border border-rule bg-card px-4 py-3" aria-label="The table" tabindex="0" @submit.prevent="create">
        <div class="grid grid-cols-[150px_minmax(0,1fr)_110px_minmax(0,1.2fr)] gap-2.5">
          <label class="grid content-start gap-0.5"><span class="text-muted">Namespace</span><input v-model="form.namespace" list="namespaces" class="mono h-[29px] w-full border border-rule bg-card px-2" autocomplete="off" spellcheck="false"><datalist id="namespaces"><option v-for="each in catalog.namespaces" :key="each.id">{{ each.name }}</option></datalist></label>
          <TextField v-model="form.name" label="Name" mono />
          <SelectField v-model="form.format" label="Format" :choices="[{ value: 'iceberg', words: 'Iceberg' }, { value: 'delta', words: 'Delta' }, { value: 'parquet', words: 'Parquet' }]" />
          <TextField v-model="form.location" label="Where it lies" mono placeholder="managed by the product" hint="storage:folder makes it external" />
        </div>
        <p v-if="missingNamespace" class="mt-1 text-muted">There is no namespace {{ form.namespace }} yet. <button type="button" class="plain-link" :disabled="busy" @click="makeNamespace">Make it</button></p>
        <TextField v-model="form.comment" class="mt-2" label="What it is for" />

        <fieldset class="mt-4">
          <legend class="font-semibold">Columns</legend>
          <div class="mt-1 flex flex-wrap items-end gap-2.5">
            <SelectField v-model="start" class="w-36" label="Start from" :choices="STARTS" />
            <template v-if="start === 'table'"><label class="grid gap-0.5"><span class="text-muted">Which table</span><select v-model="startText" class="mono h-[29px] border border-rule bg-card px-1.5"><option v-for="each in catalog.relations" :key="each.id" :value="tableName(each.namespace, each.name)">{{ each.namespace }}.{{ each.name }}</option></select></label></template>
            <label v-else-if="start !== 'nothing'" class="grid min-w-52 flex-1 gap-0.5"><span class="text-muted">{{ STARTS.find((each) => each.value === start)!.words }}</span><textarea v-model="startText" class="mono h-[29px] min-h-[29px] w-full resize-y border border-rule bg-card px-2 py-1" :placeholder="HINTS[start]" spellcheck="false" /></label>
            <template v-if="start !== 'nothing'">
              <BaseButton :disabled="starting.busy.value || startText.trim() === ''" @click="takeColumns(false)">Take its columns</BaseButton>
              <BaseButton v-if="start !== 'json'" :disabled="starting.busy.value || startText.trim() === ''" @click="takeColumns(true)">And its rows</BaseButton>
            </template>
          </div>
          <ProblemBox v-if="starting.problem.value" class="mt-2" :problem="starting.problem.value" />
          <label v-if="form.query !== ''" class="mt-2 grid gap-0.5"><span class="text-muted">Filled from this query, which gives the columns <button type="button" class="plain-link" @click="form.query = ''">no rows</button></span><textarea v-model="form.query" class="mono h-24 border border-rule bg-card px-2 py-1" spellcheck="false" /></label>
          <ColumnRows v-else v-model="form.columns" class="mt-2" :wrong="wrong?.part === 'columns' ? wrong.row : undefined" />
          <p v-if="wrong" class="mt-1 text-rust" role="alert">{{ wrong.message }}</p>
        </fieldset>

        <div class="mt-4 grid grid-cols-2 gap-4">
          <fieldset>
            <legend class="font-semibold">Rows are divided by</legend>
            <p v-for="(term, index) in form.partitionBy" :key="index" class="mt-1 flex items-center gap-1.5">
              <select v-model="term.transform" class="h-[27px] border border-rule bg-card px-1" :aria-label="`Transform ${index + 1}`"><option v-for="each in transforms" :key="each.value" :value="each.value">{{ each.words }}</option></select>
              <input v-if="SIZED.includes(term.transform)" v-model.number="term.size" type="number" min="1" class="mono h-[27px] w-16 border border-rule bg-card px-1.5" :aria-label="`Number of transform ${index + 1}`">
              <input v-model="term.source" list="columns" class="mono h-[27px] min-w-0 flex-1 border border-rule bg-card px-1.5" :aria-label="`Divided by column ${index + 1}`" spellcheck="false">
              <button type="button" class="plain-link" :aria-label="`Not divided by column ${index + 1}`" @click="form.partitionBy.splice(index, 1)">remove</button>
            </p>
            <button type="button" class="plain-link mt-1" @click="form.partitionBy.push({ source: '', transform: 'identity', size: 16 })">{{ form.partitionBy.length === 0 ? 'nothing; divide them' : 'and by' }}</button>
          </fieldset>
          <fieldset v-if="form.format === 'iceberg'">
            <legend class="font-semibold">Rows of a file are sorted by</legend>
            <p v-for="(_, index) in form.orderBy" :key="index" class="mt-1 flex items-center gap-1.5">
              <input v-model="form.orderBy[index]" list="columns" class="mono h-[27px] min-w-0 flex-1 border border-rule bg-card px-1.5" :aria-label="`Sorted by column ${index + 1}`" spellcheck="false">
              <button type="button" class="plain-link" :aria-label="`Not sorted by column ${index + 1}`" @click="form.orderBy.splice(index, 1)">remove</button>
            </p>
            <button type="button" class="plain-link mt-1" @click="form.orderBy.push('')">{{ form.orderBy.length === 0 ? 'nothing; sort them' : 'then by' }}</button>
          </fieldset>
          <datalist id="columns"><option v-for="each in placesOfRows" :key="each">{{ each }}</option></datalist>
        </div>

        <fieldset v-if="form.query !== ''" class="mt-4 min-w-0">
          <legend class="font-semibold">Files</legend>
          <button v-if="!form.files" type="button" class="plain-link mt-1" @click="form.files = emptyPlan()">as the format has them; say how</button>
          <template v-else><FilePlanFields v-model="form.files" :columns="[]" :per-folder="form.partitionBy.length > 0" /><button type="button" class="plain-link mt-1" @click="delete form.files">as the format has them</button></template>
        </fieldset>

        <fieldset class="mt-4">
          <legend class="font-semibold">Properties</legend>
          <p v-for="(property, index) in form.properties" :key="index" class="mt-1 flex items-center gap-1.5">
            <input v-model="property.name" class="mono h-[27px] min-w-0 flex-1 border border-rule bg-card px-1.5" :placeholder="form.format === 'iceberg' ? 'write.delete.mode' : 'delta.enableDeletionVectors'" :aria-label="`Property ${index + 1}`" spellcheck="false"> =
            <input v-model="property.value" class="mono h-[27px] min-w-0 flex-1 border border-rule bg-card px-1.5" :aria-label="`Value of property ${index + 1}`" spellcheck="false">
            <button type="button" class="plain-link" :aria-label="`Without property ${index + 1}`" @click="form.properties.splice(index, 1)">remove</button>
          </p>
          <button type="button" class="plain-link mt-1" @click="form.properties.push({ name: '', value: '' })">{{ form.properties.length === 0 ? 'as the format has them; set one' : 'and another' }}</button>
        </fieldset>
      </form>
      <section class="flex min-h-0 flex-col border border-rule bg-card" aria-label="The same as SQL">
        <header class="flex items-center gap-3 border-b border-hairline px-3 py-1.5"><h2>As SQL</h2><BaseButton class="ml-auto" look="strong" :disabled="busy || wrong !== undefined || marked !== undefined" @click="create">{{ busy ? 'Working …' : 'Make the table' }}</BaseButton></header>
        <SqlEditor :model-value="sql" class="min-h-0 flex-1" :names="{}" :problem="marked" label="The definition as SQL" hint="CREATE TABLE namespace.name (…)" @update:model-value="onText" @run="create" />
        <p v-if="marked" class="border-t border-hairline px-3 py-1.5 text-rust" role="alert">{{ marked.message }}</p>
        <ProblemBox v-if="problem" class="m-2" :problem="problem" />
        <ForecastPanel v-if="form.query !== ''" class="max-h-[62%] min-h-[38%] overflow-auto border-t border-rule px-3 py-2" :sql="sql" :root="form.name" :ready="wrong === undefined && marked === undefined" narrow />
      </section>
    </div>
  </PageFrame>
</template>
