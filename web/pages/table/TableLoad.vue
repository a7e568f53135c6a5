<script setup lang="ts">
/** Rows are loaded from files, a table or a query: how they fit is shown first, what came of it is counted, and it can be undone. */
import { computed, ref, watch } from 'vue';
import { call } from '../../api/client';
import type { LoadOutcome, LoadPlan } from '../../api/define-types';
import type { TableDetail } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import CheckField from '../../design/CheckField.vue';
import DataGrid from '../../design/DataGrid.vue';
import { bytesText, countText, plural } from '../../design/format';
import ProblemBox from '../../design/ProblemBox.vue';
import ProgressBar from '../../design/ProgressBar.vue';
import SelectField from '../../design/SelectField.vue';
import TagMark from '../../design/TagMark.vue';
import TextField from '../../design/TextField.vue';
import FilePlanFields from '../write/FilePlanFields.vue';
import { emptyPlan, planOptions, type FilePlanForm } from '../write/write-form';
import { useCatalog } from '../../stores/catalog';
import { useAct } from '../../stores/load';

const props = defineProps<{ base: string; detail: TableDetail }>();
const emit = defineEmits<{ undone: [] }>();
const catalog = useCatalog();
const kind = ref<'files' | 'table' | 'query'>('files');
const text = ref('');
const mode = ref<'append' | 'overwrite' | 'partitions' | 'merge'>('append');
const MODES = computed(() => [
  { value: 'append' as const, words: 'come to those that are there' }, { value: 'overwrite' as const, words: 'replace all rows' },
  ...(props.detail.partitioning.length > 0 ? [{ value: 'partitions' as const, words: 'replace the partitions that they are of' }] : []), { value: 'merge' as const, words: 'are merged by key' },
]);
const key = ref('');
const latestBy = ref('');
const takeNewColumns = ref(false);
const cast = ref(false);
const files = ref<FilePlanForm>();
const saysFiles = ref(false);
const map = ref<Record<string, string>>({});
const plan = ref<LoadPlan>();
const outcome = ref<LoadOutcome>();
const versionBefore = ref(0);
const running = ref('');
const looking = useAct();
const loading = useAct();
watch([kind, text], () => {
  plan.value = undefined;
  map.value = {};
});

const words = (list: string) => list.split(',').map((each) => each.trim()).filter((each) => each !== '');
const request = computed(() => ({
  from: { [kind.value]: text.value.trim() }, mode: mode.value, ...(mode.value === 'merge' && words(key.value).length > 0 ? { key: words(key.value) } : {}), ...(mode.value === 'merge' && latestBy.value.trim() !== '' ? { latestBy: latestBy.value.trim() } : {}),
  ...(saysFiles.value && files.value && mode.value !== 'merge' ? { files: planOptions(files.value) } : {}), ...(takeNewColumns.value ? { takeNewColumns: true } : {}), ...(cast.value ? { cast: true } : {}), ...(Object.keys(map.value).length > 0 ? { map: map.value } : {}),
}));
async function look(): Promise<void> {
  outcome.value = undefined;
  await looking.run(async () => {
    plan.value = await call<LoadPlan>(`${props.base}/load/plan`, { body: request.value });
  });
}
watch([takeNewColumns, cast, mode], () => plan.value && void look());
const sources = computed(() => [...new Set([...(plan.value?.columns ?? []).flatMap((each) => each.from ?? []), ...(plan.value?.extra ?? []).map((each) => each.name)])].sort());
function fill(column: string, from: string): void {
  map.value = { ...map.value, [column]: from };
  void look();
}
async function load(again: boolean): Promise<void> {
  versionBefore.value = props.detail.latestVersion;
  running.value = crypto.randomUUID();
  progress.value = null;
  const watching = setInterval(() => void follow(), FOLLOW_MS);
  await loading.run(async () => {
    outcome.value = await call<LoadOutcome>(`${props.base}/load`, { body: { ...request.value, id: running.value, ...(again ? { again: true } : {}) } });
    plan.value = undefined;
  });
  clearInterval(watching);
  running.value = '';
}
const FOLLOW_MS = 400;
const progress = ref<{ rows: number; of: number; bytes: number } | null>(null);
async function follow(): Promise<void> {
  progress.value = await call<{ rows: number; of: number; bytes: number } | null>(`/query/${running.value}/progress`).catch(() => null);
}
const cancel = () => call(`/query/${running.value}/cancel`, { body: {} });
const undoing = useAct();
async function undo(): Promise<void> {
  if (!(await undoing.run(() => call(`${props.base}/restore`, { body: { version: String(versionBefore.value) } })))) return;
  outcome.value = undefined;
  emit('undone');
}
const FIT = { same: 'as it is', fits: 'fits in', narrow: 'every value fits', cast: 'another type', absent: 'null' } as const;
const checkWords = computed(() => {
  const o = outcome.value!;
  if (o.difference === null) return 'How many rows the table has is not told by its files.';
  return o.difference === 0 ? 'Rows at the source, written and in the table agree.' : `The table has ${countText(Math.abs(o.difference))} rows ${o.difference > 0 ? 'more' : 'fewer'} than it should: look at the history for what else was written meanwhile.`;
});
</script>

<template>
  <section class="grid min-h-0 flex-1 grid-cols-[340px_minmax(0,1fr)] gap-3.5" aria-label="Load">
    <form class="min-h-0 overflow-auto border border-rule bg-card px-4 py-3" aria-label="What is loaded" tabindex="0" @submit.prevent="look">
      <SelectField v-model="kind" label="Rows from" :choices="[{ value: 'files', words: 'files' }, { value: 'table', words: 'a table, a view or a database' }, { value: 'query', words: 'a query' }]" />
      <label v-if="kind === 'query'" class="mt-2 grid gap-0.5"><span class="text-muted">Query</span><textarea v-model="text" class="mono h-28 border border-rule bg-card px-2 py-1" placeholder="SELECT …" spellcheck="false" /></label>
      <template v-else-if="kind === 'table'"><TextField v-model="text" class="mt-2" label="Table or view" mono placeholder="namespace.table" list="relations" /><p class="mt-1 flex flex-wrap gap-x-2 text-small"><button v-for="each in catalog.relations.filter((one) => `${one.namespace}.${one.name}` !== detail.name).slice(0, 8)" :key="each.id" type="button" class="plain-link" @click="text = `${each.namespace}.${each.name}`">{{ each.namespace }}.{{ each.name }}</button></p></template>
      <TextField v-else v-model="text" class="mt-2" label="File, folder or pattern" mono :placeholder="`${detail.storage ?? 'storage'}:landing/…`" />
      <SelectField v-model="mode" class="mt-2" label="They" :choices="MODES" />
      <template v-if="mode === 'merge'">
        <TextField v-model="key" class="mt-2" label="Told apart by" mono placeholder="the table's key" />
        <TextField v-model="latestBy" class="mt-2" label="Of rows of one key the latest by" mono placeholder="no column" hint="What is older than the table's row then changes nothing" />
      </template>
      <details v-if="mode !== 'merge'" class="mt-3" @toggle="files ??= emptyPlan()">
        <summary class="cursor-pointer">Into files {{ saysFiles ? 'as said here' : 'as the table has them' }}</summary>
        <CheckField v-model="saysFiles" class="mt-1" label="Say how, for this load" />
        <FilePlanFields v-if="files && saysFiles" v-model="files" class="mt-1" :columns="[]" :per-folder="detail.partitioning.length > 0" />
      </details>
      <CheckField v-model="takeNewColumns" class="mt-3" label="Take new columns" />
      <CheckField v-model="cast" class="mt-1" label="Cast values, and leave out rows that do not fit" />
      <BaseButton class="mt-3" type="submit" :disabled="text.trim() === '' || looking.busy.value">{{ looking.busy.value ? 'Looking …' : 'See how they fit' }}</BaseButton>
    </form>
    <div class="min-h-0 overflow-auto border border-rule bg-card px-4 py-3" tabindex="0" role="region" aria-label="How they fit">
      <ProblemBox v-if="looking.problem.value ?? loading.problem.value ?? undoing.problem.value" class="mb-2" :problem="(looking.problem.value ?? loading.problem.value ?? undoing.problem.value)!" />
      <p v-if="running" class="mb-2 flex items-center gap-3" role="status"><ProgressBar :done="progress?.rows ?? 0" :total="progress && progress.of > 0 ? progress.of : null" class="w-40" /> <template v-if="progress && (progress.of > 0 || progress.bytes > 0)">{{ progress.of > 0 ? `${countText(progress.rows)} of about ${plural(progress.of, 'row')} gone through, ` : '' }}{{ bytesText(progress.bytes) }} written</template><template v-else>Looking at the source …</template> <BaseButton look="danger" @click="cancel">Cancel</BaseButton></p>
      <article v-if="outcome" role="status">
        <h2>{{ outcome.loadedIn !== null ? `Nothing was loaded: the same came in version ${outcome.loadedIn}` : outcome.version === null ? 'Nothing was new, so no version was made' : `Loaded in version ${outcome.version}` }}</h2>
        <dl class="mt-2 grid max-w-md grid-cols-[1fr_auto] gap-x-6 gap-y-1">
          <dt>Rows at the source</dt><dd class="mono text-right">{{ countText(outcome.rowsAtSource) }}</dd>
          <template v-if="outcome.rowsLeftOut > 0"><dt>Left out, as they do not fit</dt><dd class="mono text-right">{{ countText(outcome.rowsLeftOut) }}</dd></template>
          <dt>Inserted</dt><dd class="mono text-right">{{ countText(outcome.rowsInserted) }}</dd>
          <template v-if="outcome.rowsUpdated > 0"><dt>Updated</dt><dd class="mono text-right">{{ countText(outcome.rowsUpdated) }}</dd></template>
          <template v-if="outcome.rowsDeleted > 0"><dt>Deleted</dt><dd class="mono text-right">{{ countText(outcome.rowsDeleted) }}</dd></template>
          <dt>In the table before and after</dt><dd class="mono text-right">{{ outcome.rowsBefore === null ? '?' : countText(outcome.rowsBefore) }} → {{ outcome.rowsAfter === null ? '?' : countText(outcome.rowsAfter) }}</dd>
        </dl>
        <p class="mt-2" :class="outcome.difference === 0 ? 'text-kelp' : 'text-rust'">{{ checkWords }}</p>
        <p v-if="outcome.columnsAdded.length > 0" class="mt-1">Columns that came: <b class="mono">{{ outcome.columnsAdded.join(', ') }}</b>; older rows have null there.</p>
        <p class="mt-3 flex gap-2"><BaseButton v-if="outcome.version !== null" look="past" :disabled="undoing.busy.value" @click="undo">Undo it: restore version {{ versionBefore }}</BaseButton><BaseButton v-if="outcome.loadedIn !== null" :disabled="loading.busy.value" @click="load(true)">Load it once more all the same</BaseButton></p>
      </article>
      <template v-else-if="plan">
        <header class="flex items-baseline gap-3"><h2>{{ plural(plan.rows, 'row') }} at the source</h2><BaseButton class="ml-auto" look="strong" :disabled="plan.problems.length > 0 || loading.busy.value" @click="load(false)">{{ loading.busy.value ? 'Loading …' : 'Load them' }}</BaseButton></header>
        <p v-if="plan.loadedIn !== null" class="mt-1 border-l-2 border-brass pl-2">The same files or versions were loaded in version {{ plan.loadedIn }}; they are not loaded twice.</p>
        <ul v-if="plan.problems.length > 0" class="mt-1 border-l-2 border-rust pl-2" aria-label="Why it cannot be loaded"><li v-for="each in plan.problems" :key="each">{{ each }}.</li></ul>
        <table class="mt-2 w-full text-left">
          <thead><tr class="border-b border-ink"><th class="py-1">Column</th><th>Type</th><th>Filled from</th><th>There</th><th>How it fits</th></tr></thead>
          <tbody>
            <tr v-for="each in plan.columns" :key="each.name" class="border-b border-hairline">
              <td class="mono py-1 font-semibold">{{ each.name }}</td><td class="mono text-muted">{{ each.type }}{{ each.required ? ', required' : '' }}</td>
              <td><select class="mono h-[25px] border border-rule bg-card px-1" :value="each.from ?? ''" :aria-label="`${each.name} is filled from`" @change="fill(each.name, ($event.target as HTMLSelectElement).value)"><option value="">nothing</option><option v-for="source in sources" :key="source">{{ source }}</option></select></td>
              <td class="mono text-muted">{{ each.fromType }}</td>
              <td><TagMark :tone="each.fit === 'cast' || each.misfits > 0 ? 'rust' : 'plain'">{{ FIT[each.fit] }}</TagMark><span v-if="each.misfits > 0" class="ml-2 text-rust">{{ plural(each.misfits, 'row') }} without a place</span></td>
            </tr>
            <tr v-for="each in plan.extra" :key="each.name" class="border-b border-hairline"><td class="mono py-1 text-dusk">{{ takeNewColumns ? each.name : '' }}</td><td class="mono text-muted">{{ takeNewColumns ? each.type : '' }}</td><td class="mono">{{ each.name }}</td><td class="mono text-muted">{{ each.type }}</td><td><TagMark :tone="takeNewColumns ? 'dusk' : 'rust'">{{ takeNewColumns ? 'new column' : 'not in the table' }}</TagMark></td></tr>
          </tbody>
        </table>
        <template v-if="plan.misfitRows > 0"><h3 class="mt-3 font-semibold">{{ plural(plan.misfitRows, 'row') }} that {{ plan.misfitRows === 1 ? 'does' : 'do' }} not fit{{ plan.misfits.rows.length < plan.misfitRows ? `, the first ${plan.misfits.rows.length}` : '' }}</h3><DataGrid class="mt-1 h-36 border border-hairline" :columns="plan.misfits.columns" :row-count="plan.misfits.rows.length" :first-rows="plan.misfits.rows" label="Rows that do not fit" with-types /></template>
        <details class="mt-3"><summary class="cursor-pointer text-muted">The statement that would be run</summary><pre class="mono mt-1 overflow-auto bg-paper px-2 py-1.5 whitespace-pre-wrap" tabindex="0">{{ plan.sql }}</pre></details>
      </template>
      <p v-else-if="!running" class="text-muted">Columns are matched by name, and held against the table's before anything is written. The same files or versions are never loaded twice, whatever asks for it.</p>
    </div>
  </section>
</template>
