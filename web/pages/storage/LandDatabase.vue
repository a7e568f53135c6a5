<script setup lang="ts">
/** Tables of a database are copied to the lake: which and where to first, then progress, then both sides counted. */
import { useDebounceFn } from '@vueuse/core';
import { computed, ref, watch } from 'vue';
import { call } from '../../api/client';
import type { LandedTable } from '../../api/define-types';
import BaseButton from '../../design/BaseButton.vue';
import { bytesText, countText, millisText, plural } from '../../design/format';
import ProblemBox from '../../design/ProblemBox.vue';
import ProgressBar from '../../design/ProgressBar.vue';
import SelectField from '../../design/SelectField.vue';
import TagMark from '../../design/TagMark.vue';
import TextField from '../../design/TextField.vue';
import { useOwnJob } from '../../stores/jobs';
import { useAct, useLoad } from '../../stores/load';

const props = defineProps<{ storage: string; targets: readonly string[] }>();
const emit = defineEmits<{ close: [] }>();
const to = ref(props.targets[0] ?? '');
const folder = ref('landing');
const tables = ref('');
const database = ref('');
const by = ref<'name' | 'query'>('name');
const query = ref('');
const atOnce = ref('20');
const views = ref(false);
const request = computed(() => ({
  tables: tables.value.split(',').map((each) => each.trim()).filter((each) => each !== ''), kinds: ['table', 'partitioned table', ...(views.value ? ['view', 'materialized view', 'foreign table'] : [])],
  ...(database.value.trim() === '' ? {} : { database: database.value.trim() }), ...(by.value === 'query' && query.value.trim() !== '' ? { query: query.value.trim() } : {}),
  to: { storage: to.value, folder: folder.value.trim() }, atOnce: Math.min(50, Math.max(1, Math.floor(Number(atOnce.value)) || 1)),
}));
const at = computed(() => `/storages/${encodeURIComponent(props.storage)}/landing`);
const plan = useLoad(() => call<{ tables: { table: string; kind: string; rows: number | null; path: string; isNew: boolean }[] }>(`${at.value}/plan`, { body: request.value }));
const planSoon = useDebounceFn(plan.reload, 250);
watch(request, () => void planSoon());
void plan.reload();
const { job, follow, stop } = useOwnJob();
const { busy, problem, run } = useAct();
async function land(): Promise<void> {
  await run(async () => {
    const { jobId } = await call<{ jobId: string }>(at.value, { body: request.value });
    await follow(jobId);
  });
}
const landed = computed(() => (job.value?.state === 'done' ? ((job.value.result as { tables?: LandedTable[] } | null)?.tables ?? []) : []));
const differing = computed(() => landed.value.filter((each) => each.problem !== null || each.difference !== 0));
</script>

<template>
  <section class="mb-3 grid max-h-[62vh] min-h-0 grid-cols-[250px_minmax(0,1fr)] gap-4 border border-ink bg-card px-4 py-3" aria-label="Land this database" @keydown.esc="emit('close')">
    <form class="grid content-start gap-2 overflow-auto" @submit.prevent="land">
      <h2>Land this database</h2>
      <SelectField v-model="to" label="In storage" :choices="targets.map((each) => ({ value: each, words: each }))" />
      <TextField v-model="folder" label="Below folder" mono hint="database/schema/table come below it" />
      <TextField v-model="database" label="Database" mono placeholder="the one that is connected" />
      <SelectField v-model="by" label="Tables" :choices="[{ value: 'name', words: 'by their names' }, { value: 'query', words: 'that a query names' }]" />
      <TextField v-if="by === 'name'" v-model="tables" label="Names" mono placeholder="all" hint="schema.table, with * and commas" />
      <label v-else class="grid gap-0.5"><span class="text-muted">Query</span><textarea v-model="query" class="mono h-20 border border-rule bg-card px-2 py-1" placeholder="SELECT schema, name FROM …" spellcheck="false" /></label>
      <TextField v-model="atOnce" label="At a time, 1 to 50" mono />
      <label class="flex items-center gap-1.5"><input v-model="views" type="checkbox" class="size-3.5 accent-(--tide)">views too</label>
      <p class="flex gap-2"><BaseButton type="submit" look="strong" :disabled="busy || job?.state === 'running' || (plan.value.value?.tables.length ?? 0) === 0">Land {{ plural(plan.value.value?.tables.length ?? 0, 'table') }}</BaseButton><BaseButton @click="emit('close')">Leave it</BaseButton></p>
    </form>
    <div class="min-h-0 overflow-auto" tabindex="0" role="region" aria-label="Tables that are landed">
      <ProblemBox v-if="problem ?? plan.problem.value" class="mb-2" :problem="(problem ?? plan.problem.value)!" />
      <p v-if="job?.state === 'running'" class="mb-2 flex items-center gap-3" role="status"><ProgressBar :done="job.done" :total="job.total" class="w-32" /> {{ countText(job.done) }} of {{ countText(job.total ?? 0) }} {{ job.message }} <BaseButton look="danger" @click="stop">Stop</BaseButton></p>
      <p v-else-if="job && job.state !== 'done'" class="mb-2 text-rust" role="alert">{{ job.message }}</p>
      <template v-if="landed.length > 0">
        <p class="mb-2" role="status"><b>{{ plural(landed.length, 'table') }}</b>: <span :class="differing.length === 0 ? 'text-kelp' : 'text-rust'">{{ differing.length === 0 ? 'rows at the source and in the lake agree in all of them.' : `${differing.length} failed or ${differing.length === 1 ? 'differs' : 'differ'}.` }}</span> Crawl {{ to }}:{{ folder }} to register them.</p>
        <table class="w-full text-left">
          <thead><tr class="border-b border-ink"><th class="py-1">Table</th><th class="pr-4 text-right">At the source</th><th class="pr-4 text-right">In the lake</th><th class="pr-4 text-right">Difference</th><th class="pr-4 text-right">Bytes</th><th class="pr-4 text-right">Took</th><th>Since last time</th></tr></thead>
          <tbody>
            <tr v-for="each in landed" :key="each.table" class="border-b border-hairline align-baseline">
              <td class="mono py-1 font-semibold" :title="each.path">{{ each.table }}</td>
              <td v-if="each.problem" colspan="6" class="text-rust">{{ each.problem }}</td>
              <template v-else>
                <td class="mono pr-4 text-right">{{ countText(each.rowsAtSource ?? 0) }}</td><td class="mono pr-4 text-right">{{ countText(each.rowsInLake ?? 0) }}</td><td class="mono pr-4 text-right" :class="each.difference === 0 ? '' : 'text-rust'">{{ countText(each.difference ?? 0) }}</td>
                <td class="mono pr-4 text-right">{{ bytesText(each.bytes) }}</td><td class="mono pr-4 text-right">{{ millisText(each.millis) }}</td>
                <td><TagMark v-if="each.isNew" tone="dusk">new</TagMark><span v-else-if="each.newColumns.length > 0">columns <b class="mono">{{ each.newColumns.join(', ') }}</b> came</span><span v-else class="text-muted">same columns</span></td>
              </template>
            </tr>
          </tbody>
        </table>
      </template>
      <table v-else class="w-full text-left">
        <thead><tr class="border-b border-ink"><th class="py-1">Table</th><th>Kind</th><th class="pr-4 text-right">Rows, as the database estimates</th><th>Where to</th></tr></thead>
        <tbody><tr v-for="each in plan.value.value?.tables ?? []" :key="each.table" class="border-b border-hairline"><td class="mono py-1 font-semibold">{{ each.table }}</td><td class="text-muted">{{ each.kind }}</td><td class="mono pr-4 text-right">{{ each.rows === null ? '?' : countText(each.rows) }}</td><td class="mono text-muted">{{ each.path }} <TagMark v-if="each.isNew" tone="dusk">new</TagMark></td></tr></tbody>
      </table>
    </div>
  </section>
</template>
