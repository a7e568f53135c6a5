<script setup lang="ts">
/** Rows of a query are written to files of a folder: said in a form or as SQL, foreseen, tried, run, and held against what was foreseen. */
import { useDebounceFn } from '@vueuse/core';
import { computed, ref, watch } from 'vue';
import { RouterLink, useRoute, useRouter } from 'vue-router';
import { call } from '../../api/client';
import { COMPRESSIONS, type FileFormat } from '../../../core/write/file-kind';
import type { WriteJobResult } from '../../api/define-types';
import type { QueryResult, StorageName } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import CheckField from '../../design/CheckField.vue';
import { bytesText, countText, millisText, plural } from '../../design/format';
import ProblemBox from '../../design/ProblemBox.vue';
import ProgressBar from '../../design/ProgressBar.vue';
import SelectField from '../../design/SelectField.vue';
import SqlEditor from '../../design/SqlEditor.vue';
import TextField from '../../design/TextField.vue';
import PageFrame from '../../shell/PageFrame.vue';
import { useOwnJob } from '../../stores/jobs';
import { useAct, useLoad } from '../../stores/load';
import { useSqlForm } from '../../stores/sql-form';
import FilePlanFields from './FilePlanFields.vue';
import ForecastPanel from './ForecastPanel.vue';
import { emptyWrite, formOf, sizeProblem, sqlOf, type WriteForm } from './write-form';

const route = useRoute();
const router = useRouter();
/** In the order in which they are offered. */
const KINDS = ['folder', 's3', 'postgres'];
const storages = useLoad(() => call<StorageName[]>('/storages'));
void storages.reload();
const targets = computed(() => [...(storages.value.value ?? [])].sort((a, b) => KINDS.indexOf(a.kind) - KINDS.indexOf(b.kind)).map(({ name }) => ({ value: name, words: name })));
const toDatabase = computed(() => storages.value.value?.find((each) => each.name === form.value.storage)?.kind === 'postgres');
const given = (key: string) => (typeof route.query[key] === 'string' ? route.query[key] : '');
const form = ref<WriteForm>(fromUrl());
const { sql, marked, onText } = useSqlForm(form, (now) => sqlOf(now, toDatabase.value), formOf, [toDatabase]);

function fromUrl(): WriteForm {
  try {
    return formOf(given('sql'));
  } catch {
    return emptyWrite('', given('query'));
  }
}
watch(targets, (all) => form.value.storage === '' && all.length > 0 && (form.value.storage = all[0]!.value), { immediate: true });
const keepText = useDebounceFn((text: string) => route.path === '/write' && void router.replace({ query: { sql: text } }), 400);
watch(sql, keepText);

const columns = ref<string[]>([]);
const readColumns = useDebounceFn(async (query: string) => {
  columns.value = query.trim() === '' ? [] : await call<QueryResult>('/query', { body: { sql: `SELECT * FROM (${query}\n) AS rows LIMIT 0` } }).then((answer) => answer.columns.map(({ name }) => name), () => []);
}, 500);
watch(() => form.value.query, (query) => void readColumns(query), { immediate: true });

const FORMATS = [{ value: 'parquet', words: 'Parquet' }, { value: 'csv', words: 'CSV' }, { value: 'jsonl', words: 'JSON lines' }, { value: 'avro', words: 'Avro' }];
const compressions = computed(() => (COMPRESSIONS[form.value.format as FileFormat] ?? []).map((value, index) => ({ value: index === 0 ? '' : value, words: value })));
const EXISTING = [{ value: 'refuse', words: 'are in the way' }, { value: 'add', words: 'stay, beside the new' }, { value: 'clear', words: 'are removed when the new are in place' }];
const ready = computed(() => form.value.query.trim() !== '' && form.value.folder.trim() !== '' && form.value.storage !== '' && !marked.value && sizeProblem(form.value) === undefined);

const { job, follow, stop } = useOwnJob();
const { busy, problem, run } = useAct();
async function write(): Promise<void> {
  await run(async () => {
    const { jobId } = await call<{ jobId: string }>('/writes', { body: { sql: sql.value } });
    await follow(jobId);
  });
}
watch(sql, () => job.value?.state !== 'running' && (job.value = undefined));
const outcome = computed(() => (job.value?.state === 'done' ? (job.value.result as unknown as WriteJobResult) : undefined));
const took = computed(() => (job.value?.finishedAt ? Date.parse(job.value.finishedAt) - Date.parse(job.value.startedAt) : 0));
const compared = computed(() => {
  const o = outcome.value!;
  const f = o.foreseen;
  return [
    { what: 'Rows', foreseen: f && countText(f.rows), came: countText(o.rows) }, { what: 'Files', foreseen: f && countText(f.files), came: countText(o.fileCount) },
    { what: 'Size', foreseen: f && bytesText(f.bytes), came: bytesText(o.bytes) }, { what: 'Time', foreseen: f && millisText(f.millis), came: millisText(took.value) },
  ];
});
</script>

<template>
  <PageFrame :steps="[{ label: 'Query', to: '/query' }, { label: 'Write files' }]">
    <template #title><h1>Write files</h1><span class="text-muted">Rows of a query, to files of a folder or to a table of a database</span></template>
    <div class="grid min-h-0 flex-1 grid-cols-[430px_minmax(0,1fr)] gap-3.5">
      <div class="flex min-h-0 flex-col gap-3">
        <form class="min-h-0 flex-1 overflow-auto border border-rule bg-card px-4 py-3" aria-label="The write" tabindex="0" @submit.prevent="write">
          <label class="grid gap-0.5"><span class="text-muted">Rows of</span><textarea v-model="form.query" class="mono h-16 border border-rule bg-card px-2 py-1" placeholder="SELECT … FROM namespace.table" spellcheck="false" /></label>
          <div class="mt-2 grid grid-cols-2 gap-2"><SelectField v-model="form.storage" label="To the storage" :choices="targets" /><TextField v-model="form.folder" :label="toDatabase ? 'Table' : 'Folder'" mono :placeholder="toDatabase ? 'schema.table' : ''" /></div>
          <SelectField v-if="toDatabase" v-model="form.existing" class="mt-2" label="Rows that stand there" :choices="EXISTING" />
          <template v-else>
          <div class="mt-2 grid grid-cols-2 gap-2">
            <SelectField v-model="form.format" label="As" :choices="FORMATS" @update:model-value="form.compression = ''" /><SelectField v-model="form.compression" label="Compressed with" :choices="compressions" />
            <template v-if="form.format === 'csv'"><TextField v-model="form.delimiter" label="Between fields" mono hint="or the word tab" /><CheckField v-model="form.header" class="self-center" label="Names in the first line" /></template>
          </div>
          <fieldset class="mt-3 min-w-0 border-t border-hairline pt-2"><legend class="float-left mb-1 w-full font-semibold">Files</legend><FilePlanFields v-model="form" class="clear-both" :columns="columns" :per-folder="form.folders.trim() !== ''" /></fieldset>
          <fieldset class="mt-3 min-w-0 border-t border-hairline pt-2">
            <legend class="float-left mb-1 w-full font-semibold">Folders and names</legend>
            <div class="clear-both grid grid-cols-2 gap-2">
              <TextField v-model="form.folders" label="Folders by value" mono placeholder="none" hint="site={site}/{year}" />
              <TextField v-model="form.names" label="Names of files" mono placeholder="as it follows" hint="{number:3} {of} {key} {date} {id}" />
              <TextField v-model="form.leaveOut" label="Columns left out" mono placeholder="none" hint="those that the folders tell" />
              <SelectField v-model="form.existing" label="Files that stand there" :choices="EXISTING" />
            </div>
          </fieldset>
          </template>
        </form>
        <section class="flex h-[190px] shrink-0 flex-col border border-rule bg-card" aria-label="The same as SQL">
          <header class="flex items-center gap-3 border-b border-hairline px-3 py-1"><h2>As SQL</h2><BaseButton class="ml-auto" look="strong" :disabled="!ready || busy || job?.state === 'running'" @click="write">{{ job?.state === 'running' ? 'Writing …' : toDatabase ? 'Write the rows' : 'Write the files' }}</BaseButton></header>
          <SqlEditor :model-value="sql" class="min-h-0 flex-1" :names="{}" :problem="marked" label="The write as SQL" hint="WRITE TO 'storage:folder' AS SELECT …" @update:model-value="onText" @run="write" />
          <p v-if="marked" class="border-t border-hairline px-3 py-1 text-rust" role="alert">{{ marked.message }}</p>
        </section>
      </div>
      <div class="flex min-h-0 flex-col gap-3 overflow-auto border border-rule bg-card px-4 py-3">
        <ProblemBox v-if="problem" :problem="problem" />
        <p v-if="job?.state === 'running'" class="flex items-center gap-3" role="status"><ProgressBar :done="job.done" :total="job.total" class="w-40" /> {{ job.message || 'Working …' }} <BaseButton look="danger" @click="stop">Stop</BaseButton></p>
        <p v-else-if="job && job.state !== 'done'" class="border-l-2 border-rust pl-2" role="alert">{{ job.message }}</p>
        <article v-if="outcome" class="border-b border-rule pb-3" role="status" aria-label="What came of it">
          <h2>{{ outcome.done }}</h2>
          <dl v-if="outcome.table" class="mt-1 grid max-w-xs grid-cols-[1fr_auto] gap-x-6"><dt>Rows at the source</dt><dd class="mono text-right">{{ countText(outcome.table.rowsAtSource) }}</dd><dt>In the table before</dt><dd class="mono text-right">{{ countText(outcome.table.rowsBefore) }}</dd><dt>and after</dt><dd class="mono text-right">{{ countText(outcome.table.rowsAfter) }}</dd><dt>Difference</dt><dd class="mono text-right" :class="outcome.table.difference === 0 ? 'text-kelp' : 'text-rust'">{{ countText(outcome.table.difference) }}</dd></dl>
          <div v-else class="mt-1 grid grid-cols-[auto_minmax(0,1fr)] gap-8">
            <table class="text-left"><thead><tr class="border-b border-rule text-muted"><th /><th class="px-4 text-right">foreseen</th><th class="text-right">came</th></tr></thead><tbody><tr v-for="each in compared" :key="each.what"><th class="font-normal">{{ each.what }}</th><td class="mono px-4 text-right">{{ each.foreseen ?? '–' }}</td><td class="mono text-right">{{ each.came }}</td></tr></tbody></table>
            <p class="text-muted">{{ outcome.cleared ? `${plural(outcome.cleared.files, 'file')}, ${bytesText(outcome.cleared.bytes)}, were removed in ${millisText(outcome.cleared.millis)}. ` : '' }}Putting in order took {{ millisText(outcome.millis.order) }}, writing {{ millisText(outcome.millis.write) }}, bringing them to their place {{ millisText(outcome.millis.put) }}. <RouterLink class="plain-link" :to="`/storage/${form.storage}/${form.folder}`">Look at them</RouterLink></p>
          </div>
        </article>
        <p v-if="toDatabase" class="text-muted">Rows go into the table in one transaction: all of them or none. A table that is not there is made with the columns of the query; columns of one that is are found by name. Rows at both ends are counted.</p>
        <ForecastPanel v-else :sql="sql" :root="form.folder" :ready="ready" class="flex-1" />
      </div>
    </div>
  </PageFrame>
</template>
