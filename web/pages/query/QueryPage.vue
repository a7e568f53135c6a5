<script setup lang="ts">
import { useDebounceFn } from '@vueuse/core';
import type { SQLNamespace } from '@codemirror/lang-sql';
import { computed, ref, shallowRef, watch } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import { call } from '../../api/client';
import type { SavedQuery } from '../../api/define-types';
import type { Receipt } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import { agoText, bytesText, millisText, plural, utcText } from '../../design/format';
import ProblemBox from '../../design/ProblemBox.vue';
import ProgressBar from '../../design/ProgressBar.vue';
import PageFrame from '../../shell/PageFrame.vue';
import { useCatalog } from '../../stores/catalog';
import { useLive } from '../../stores/live';
import { useAct, useLoad } from '../../stores/load';
import { nameAsSql } from '../../../core/sql/tokens';
import { tableName } from './link';
import ReceiptView from './ReceiptView.vue';
import ScriptSteps from './ScriptSteps.vue';
import ResultView from './ResultView.vue';
import SqlEditor from '../../design/SqlEditor.vue';
import { useQuery } from './useQuery';
import WhatThisReads from './WhatThisReads.vue';

const route = useRoute();
const router = useRouter();
const catalog = useCatalog();
const fromUrl = () => (typeof route.query.sql === 'string' ? route.query.sql : undefined);
const sql = ref(fromUrl() ?? sessionStorage.getItem('query') ?? '');
const query = useQuery(sql);
const editor = ref<InstanceType<typeof SqlEditor>>();

watch(fromUrl, (text) => text !== undefined && text !== sql.value && (sql.value = text));
const keepText = useDebounceFn((text: string) => {
  sessionStorage.setItem('query', text);
  if (route.path === '/query') void router.replace({ query: { ...route.query, sql: text || undefined } });
}, 400);
watch(sql, keepText);

/** Names for completion, and the columns of the tables at hand. */
const columns = shallowRef<Record<string, string[]>>({});
const NAMED = 100;
async function loadNames(): Promise<void> {
  await catalog.refresh();
  const tables = catalog.relations.filter((each) => each.kind === 'table').slice(0, NAMED);
  const found = await Promise.all(tables.map(async (each) => [`${each.namespace}.${each.name}`, (await catalog.detail(each.namespace, each.name).catch(() => undefined))?.columns.map(({ name }) => name) ?? []] as const));
  columns.value = Object.fromEntries(found);
}
void loadNames();
const names = computed<SQLNamespace>(() => {
  const all: Record<string, Record<string, string[]>> = {};
  for (const { namespace, name } of catalog.relations) (all[namespace] ??= {})[name] = (columns.value[`${namespace}.${name}`] ?? []).map(nameAsSql);
  return all;
});
const atHand = computed(() => {
  const inQuery = new Set((query.maps.value ?? []).map((map) => map.name));
  return catalog.relations.map((each) => ({ ...each, full: `${each.namespace}.${each.name}`, inQuery: inQuery.has(`${each.namespace}.${each.name}`) })).sort((a, b) => Number(b.inQuery) - Number(a.inQuery));
});
const folded = ref(localStorage.getItem('at-hand') === 'folded');
watch(folded, (is) => localStorage.setItem('at-hand', is ? 'folded' : 'open'));

/** Queries that have a name. */
const saved = useLoad(() => call<SavedQuery[]>('/saved-queries'));
void saved.reload();
const savedName = computed(() => saved.value.value?.find((each) => each.sql === sql.value)?.name);
const naming = ref<string>();
const saving = useAct();
async function save(): Promise<void> {
  const name = naming.value?.trim();
  if (!name || !(await saving.run(() => call(`/saved-queries/${encodeURIComponent(name)}`, { method: 'PUT', body: { sql: sql.value } })))) return;
  naming.value = undefined;
  await saved.reload();
}
async function forget(name: string): Promise<void> {
  await saving.run(() => call(`/saved-queries/${encodeURIComponent(name)}`, { method: 'DELETE' }));
  await saved.reload();
}

const receipts = useLoad(() => call<Receipt[]>('/receipts?limit=12'));
void receipts.reload();
const reloadReceipts = useDebounceFn(receipts.reload, 150);
useLive((event) => {
  if (event.topic === 'receipt') void reloadReceipts();
  if (event.topic === 'table') void query.plan();
  if (event.topic === 'catalog') {
    void loadNames();
    void saved.reload();
  }
}, () => void receipts.reload());
const openReceipt = computed(() => (typeof route.query.receipt === 'string' ? route.query.receipt : undefined));
const showReceipt = (id: string | undefined) => void router.replace({ query: { ...route.query, receipt: id } });
const receiptLine = (each: Receipt) => (each.outcome !== 'done' ? (each.problem ?? each.outcome) : each.kind === 'write' ? (each.rowCount === null ? 'defined' : `${plural(each.rowCount, 'row')} written`) : `${plural(each.rowCount ?? 0, 'row')}, ${bytesText(each.tables.reduce((sum, table) => sum + table.bytes.read, 0))}${each.tables.some((table) => table.past) ? ', from the past' : ''}`);

const marked = computed(() => {
  const failed = query.script.value?.steps.find((each) => each.problem)?.problem;
  if (failed) return { message: failed.message, position: failed.position };
  const problem = query.problem.value ?? query.planProblem.value;
  return problem?.more.position === undefined ? undefined : { message: problem.message, position: problem.more.position };
});
const examples = [
  { words: 'Oxygen by buoy on one day', sql: "SELECT buoy_id, round(avg(oxygen_mg_l), 2) AS oxygen\nFROM refined.soundings\nWHERE taken_at >= '2026-03-14' AND taken_at < '2026-03-15'\nGROUP BY buoy_id\nORDER BY oxygen" },
  { words: 'The bottles before the bad load', sql: 'SELECT site, count(*) AS bottles, round(avg(oxygen_mg_l), 2) AS oxygen\nFROM refined.bottles FOR SYSTEM_VERSION AS OF 8\nGROUP BY site\nORDER BY site' },
];
const canShowExamples = computed(() => catalog.relations.some((each) => each.namespace === 'refined' && each.name === 'soundings'));
</script>

<template>
  <PageFrame :steps="[{ label: 'Query' }]">
    <div class="grid min-h-0 flex-1 gap-3" :class="folded ? 'grid-cols-[34px_minmax(0,1fr)_322px]' : 'grid-cols-[186px_minmax(0,1fr)_322px]'">
      <aside class="flex min-h-0 flex-col border border-rule bg-card" aria-label="At hand">
        <button class="flex items-center justify-between border-b border-rule px-2.5 py-1.5 font-semibold" :aria-expanded="!folded" @click="folded = !folded"><span :class="folded ? 'sr-only' : ''">At hand</span><span aria-hidden="true">{{ folded ? '»' : '«' }}</span></button>
        <ul v-if="!folded" class="min-h-0 overflow-auto py-1" tabindex="0" aria-label="Tables and columns">
          <li v-for="each in atHand" :key="each.full" class="px-2.5 py-0.5">
            <button class="block max-w-full truncate text-left hover:text-tide" :class="each.inQuery ? 'font-semibold' : ''" :title="`Put ${each.full} in the query`" @click="editor?.insert(tableName(each.namespace, each.name))">{{ each.full }}</button>
            <template v-if="each.inQuery"><button v-for="column in columns[each.full] ?? []" :key="column" class="mono block max-w-full truncate py-px pl-3 text-left text-muted hover:text-tide" @click="editor?.insert(nameAsSql(column))">{{ column }}</button></template>
          </li>
          <template v-if="saved.value.value && saved.value.value.length > 0">
            <li class="mt-1.5 border-t border-hairline px-2.5 pt-1.5 font-semibold">Saved</li>
            <li v-for="each in saved.value.value" :key="each.name" class="group flex gap-1 px-2.5 py-0.5"><button class="min-w-0 flex-1 truncate text-left hover:text-tide" :class="each.name === savedName ? 'font-semibold' : ''" :title="each.sql" @click="sql = each.sql">{{ each.name }}</button><button class="plain-link shrink-0 text-small opacity-0 group-focus-within:opacity-100 group-hover:opacity-100" :aria-label="`Forget ${each.name}`" @click="forget(each.name)">forget</button></li>
          </template>
          <li v-if="atHand.length === 0" class="px-2.5 py-1 text-muted">No tables yet. Files can be read as <code>"storage:path"</code>.</li>
        </ul>
      </aside>
      <div class="flex min-h-0 min-w-0 flex-col gap-3">
        <section class="flex min-h-[150px] flex-col border border-rule bg-card" :class="query.result.value || query.problem.value || query.running.value ? 'h-[34%]' : 'h-[48%]'" aria-label="Editor">
          <header class="flex items-center gap-3 border-b border-hairline px-3 py-1.5">
            <h1 class="text-[15px]">Query</h1>
            <template v-if="sql.trim() === '' && canShowExamples"><span class="text-muted">try</span><button v-for="each in examples" :key="each.words" class="plain-link truncate" @click="sql = each.sql">{{ each.words }}</button></template>
            <b v-if="savedName" class="truncate">{{ savedName }}</b>
            <span class="ml-auto flex items-center gap-2.5">
              <form v-if="naming !== undefined" class="flex items-center gap-1.5" aria-label="Save the query" @submit.prevent="save" @keydown.esc="naming = undefined"><input v-model="naming" class="h-[25px] w-40 border border-rule bg-card px-1.5" placeholder="its name" aria-label="Name of the query" autocomplete="off"><button class="plain-link" :disabled="naming.trim() === ''">save</button></form>
              <button v-else-if="sql.trim() !== '' && !savedName" class="plain-link" @click="naming = ''">Save as …</button>
              <template v-if="query.running.value"><ProgressBar :done="0" :total="null" class="w-16" /><span class="mono text-muted" role="status">{{ millisText(query.elapsed.value) }}</span><BaseButton look="danger" @click="query.cancel">Cancel</BaseButton></template>
              <BaseButton v-else look="strong" :disabled="sql.trim() === ''" @click="query.run">Run <kbd class="ml-1 font-mono text-tiny">Ctrl ⏎</kbd></BaseButton>
            </span>
          </header>
          <SqlEditor ref="editor" v-model="sql" class="flex-1" :names="names" :problem="marked" @run="query.run" />
        </section>
        <ProblemBox v-if="saving.problem.value" :problem="saving.problem.value" />
        <ProblemBox v-if="query.problem.value" :problem="query.problem.value" />
        <ScriptSteps v-if="query.script.value" :script="query.script.value" :chosen="query.result.value" @choose="(result) => (query.result.value = result)" />
        <ResultView v-if="query.result.value" :result="query.result.value" :from-receipt="query.fromReceipt.value" :class="query.running.value ? 'opacity-60' : ''" @receipt="showReceipt" @write="router.push({ path: '/write', query: { query: sql } })" />
        <p v-else-if="!query.problem.value" class="px-1 text-muted">The result comes here. A query reads files where they lie; nothing is loaded first. INSERT, UPDATE, DELETE, MERGE and REPLACE ROWS change Delta and Iceberg tables, a version each; CREATE, ALTER, DROP, SHOW and DESCRIBE define and look; WRITE makes files. Semicolons part statements that are run one after the other.</p>
      </div>
      <div class="grid min-h-0 grid-cols-[minmax(0,1fr)] content-start gap-3 overflow-auto" tabindex="0" role="region" aria-label="What is read and receipts">
        <ReceiptView v-if="openReceipt" :id="openReceipt" :busy="query.running.value !== undefined" @close="showReceipt(undefined)" @rerun="query.rerun" @edit="(text) => (sql = text)" />
        <WhatThisReads :maps="query.maps.value" :does="query.does.value" :problem="query.planProblem.value" :stale="query.stale.value" />
        <section class="border border-rule bg-card px-4 py-3" aria-label="Recent receipts">
          <h2>Receipts</h2>
          <p v-if="receipts.problem.value" class="text-rust">{{ receipts.problem.value.message }}</p>
          <p v-else-if="receipts.value.value?.length === 0" class="text-muted">Every query leaves one: which versions and files it read. It can be run again from it.</p>
          <button v-for="each in receipts.value.value ?? []" :key="each.id" class="block w-full border-t border-hairline py-1.5 text-left first-of-type:border-t-0 hover:bg-paper" :aria-pressed="each.id === openReceipt" @click="showReceipt(each.id)">
            <span class="flex justify-between gap-2"><span class="mono truncate font-semibold">{{ each.sql.replace(/\s+/g, ' ') }}</span><span class="shrink-0 text-muted" :title="utcText(each.at)">{{ agoText(each.at) }}</span></span>
            <span class="block truncate text-small" :class="each.outcome === 'failed' ? 'text-rust' : 'text-muted'">{{ receiptLine(each) }}</span>
          </button>
        </section>
      </div>
    </div>
  </PageFrame>
</template>
