<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref, watch } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import { call } from '../../api/client';
import type { IcebergFacts, TableDetail, TimelineEntry } from '../../api/types';
import TableTimeline from '../../charts/TableTimeline.vue';
import BaseButton from '../../design/BaseButton.vue';
import CopyText from '../../design/CopyText.vue';
import { bytesText, countText, formatName, plural, timeText, utcText } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import TagMark from '../../design/TagMark.vue';
import PageFrame from '../../shell/PageFrame.vue';
import { useCatalog } from '../../stores/catalog';
import { useLive } from '../../stores/live';
import { useLoad } from '../../stores/load';
import { queryLink, tableName } from '../query/link';
import IcebergProperties from './IcebergProperties.vue';
import IcebergUpkeep from './IcebergUpkeep.vue';
import LogCheck from './LogCheck.vue';
import RestorePanel from './RestorePanel.vue';
import TableBranches from './TableBranches.vue';
import TableColumns from './TableColumns.vue';
import TableHistory from './TableHistory.vue';
import TableLoad from './TableLoad.vue';
import TableMisfits from './TableMisfits.vue';
import TableProfile from './TableProfile.vue';
import TableProperties from './TableProperties.vue';
import TableRows from './TableRows.vue';
import TableUpkeep from './TableUpkeep.vue';

const route = useRoute();
const router = useRouter();
const catalog = useCatalog();
const namespace = computed(() => String(route.params.namespace));
const table = computed(() => String(route.params.table));
const wanted = computed(() => (typeof route.query.version === 'string' && /^\d+$/.test(route.query.version) ? route.query.version : undefined));
const section = computed(() => (sections.value.some((each) => each.name === route.query.section) ? String(route.query.section) : 'rows'));
/** Told by the catalog, where the table itself cannot be read. */
const isDelta = computed(() => catalog.relations.some((each) => each.namespace === namespace.value && each.name === table.value && each.format === 'delta'));
const base = computed(() => `/catalog/${encodeURIComponent(namespace.value)}/${encodeURIComponent(table.value)}`);

const detail = useLoad(() => call<TableDetail>(`${base.value}${wanted.value === undefined ? '' : `?version=${wanted.value}`}`));
const history = useLoad(() => call<{ entries: TimelineEntry[] }>(`${base.value}/history`));
const facts = useLoad(() => call<IcebergFacts>(`${base.value}/iceberg`));
const flags = computed(() => (shown.value?.format === 'iceberg' ? (facts.value.value?.refs ?? []).flatMap((each) => (each.name !== 'main' && each.version !== null && each.isOnMain ? [{ version: each.version, name: each.name }] : [])) : []));
const now = useLoad(() => catalog.detail(namespace.value, table.value));
void catalog.refresh();
watch(base, () => {
  detail.value.value = undefined;
  history.value.value = undefined;
  void history.reload();
}, { immediate: true });
watch([base, wanted], () => {
  restoring.value = false;
  void detail.reload();
  if (wanted.value !== undefined) void now.reload();
}, { flush: 'post' });
const reloadAll = () => {
  void detail.reload();
  void history.reload();
  if (wanted.value !== undefined) void now.reload();
};
useLive((event) => event.topic === 'catalog' && void detail.reload());
useLive((event) => event.topic === 'table' && event.name.toLowerCase() === `${namespace.value}.${table.value}`.toLowerCase() && reloadAll(), reloadAll);
watch(() => [detail.value.value?.format, history.value.value], ([format]) => format === 'iceberg' && void facts.reload());
watch(() => detail.value.value?.kind, (kind) => kind === 'view' && void router.replace(base.value));

const restoring = ref(false);
const timeline = ref<InstanceType<typeof TableTimeline>>();
const shown = computed(() => (detail.value.value?.kind === 'table' ? detail.value.value : undefined));
const past = computed(() => shown.value?.past === true);
const entry = computed(() => history.value.value?.entries.find((each) => each.version === shown.value?.version));
const full = computed(() => tableName(namespace.value, table.value));

function view(version: number): void {
  const isLatest = version === shown.value?.latestVersion;
  void router.replace({ query: { ...route.query, version: isLatest ? undefined : String(version) } });
}
function show(name: string): void {
  void router.replace({ query: { ...route.query, section: name === 'rows' ? undefined : name } });
}
function onRestored(): void {
  restoring.value = false;
  void router.replace({ query: { ...route.query, version: undefined } });
  reloadAll();
}
function onKey(event: KeyboardEvent): void {
  const target = event.target as HTMLElement;
  if (event.ctrlKey || event.metaKey || event.altKey || (target !== document.body && !target.closest('[aria-label="Timeline"]'))) return;
  if (event.key === 'ArrowLeft') timeline.value?.step(-1);
  if (event.key === 'ArrowRight') timeline.value?.step(1);
}
onMounted(() => {
  void detail.reload();
  if (wanted.value !== undefined) void now.reload();
  window.addEventListener('keydown', onKey);
});
onUnmounted(() => window.removeEventListener('keydown', onKey));

const steps = computed(() => [
  { label: 'Catalog', to: '/catalog' },
  { label: namespace.value, to: `/catalog/${encodeURIComponent(namespace.value)}` },
  { label: table.value, to: base.value, siblings: catalog.relations.filter((each) => each.namespace === namespace.value && each.kind === 'table').map(({ name }) => ({ label: name, to: `/tables/${encodeURIComponent(namespace.value)}/${encodeURIComponent(name)}` })) },
  ...(past.value ? [{ label: `version ${shown.value!.version}`, past: true }] : []),
]);
const LINES = new Set(['csv', 'fixed', 'pattern', 'json']);
const sections = computed(() => [{ name: 'rows', words: 'Rows' }, { name: 'columns', words: 'Columns' }, { name: 'history', words: 'History' }, { name: 'profile', words: 'Profile' }, ...(shown.value?.format === 'iceberg' ? [{ name: 'branches', words: 'Branches' }] : []), ...(shown.value?.format === 'delta' || shown.value?.format === 'iceberg' ? [...(past.value ? [] : [{ name: 'load', words: 'Load' }]), { name: 'properties', words: 'Properties' }, { name: 'upkeep', words: 'Upkeep' }] : []), ...(LINES.has(shown.value?.format ?? '') ? [{ name: 'misfits', words: 'Lines that do not fit' }] : [])]);
</script>

<template>
  <PageFrame :steps="steps" :past="past">
    <template v-if="past && shown" #band>
      <section class="mb-2 flex items-center gap-3 border border-brass bg-brass-soft px-3.5 py-1" aria-label="The past">
        <p><b class="text-brass">The past.</b> Version {{ shown.version }} of {{ shown.name }}, <template v-if="entry">{{ entry.operation }}, </template><span :title="utcText(shown.committedAt)">{{ timeText(shown.committedAt) }}</span><template v-if="entry?.who"> by {{ entry.who }}</template><template v-if="shown.rows !== null">, {{ countText(shown.rows) }} rows</template>.</p>
        <BaseButton class="ml-auto" look="past" @click="view(shown.latestVersion)">Return to now, version {{ shown.latestVersion }}</BaseButton>
      </section>
    </template>
    <template #title>
      <h1>{{ shown?.name ?? table }}</h1>
      <template v-if="shown">
        <TagMark>{{ formatName(shown.format) }}</TagMark>
        <span class="text-muted">{{ shown.rows === null ? '' : `${countText(shown.rows)} rows in ` }}{{ plural(shown.files, 'file') }}, {{ bytesText(shown.bytes) }}<template v-if="shown.description">. {{ shown.description }}</template></span>
      </template>
    </template>
    <template v-if="shown" #actions>
      <BaseButton @click="$router.push(queryLink(`SELECT *\nFROM ${full}${past ? ` FOR SYSTEM_VERSION AS OF ${shown.version}` : ''}\nLIMIT 100`))">{{ past ? `Query version ${shown.version}` : 'Query' }}</BaseButton>
      <BaseButton v-if="past && (shown.format === 'delta' || shown.format === 'iceberg')" :aria-expanded="restoring" @click="restoring = !restoring">Restore it…</BaseButton>
    </template>
    <ProblemBox v-if="detail.problem.value" class="mb-2" :problem="detail.problem.value" can-retry @retry="reloadAll" />
    <LogCheck v-if="!shown && detail.problem.value && isDelta" :base="base" @repaired="reloadAll" />
    <template v-if="shown">
      <RestorePanel v-if="restoring" :detail="shown" @close="restoring = false" @restored="onRestored" />
      <ProblemBox v-if="history.problem.value" class="mb-2" :problem="history.problem.value" can-retry @retry="history.reload" />
      <TableTimeline v-else-if="history.value.value && history.value.value.entries.length > 0" ref="timeline" :entries="history.value.value.entries" :viewing="shown.version" :latest="shown.latestVersion" :flags="flags" @view="view" />
      <nav class="flex gap-6 pt-1.5 pb-2" aria-label="Sections">
        <button v-for="each in sections" :key="each.name" class="border-b-2 py-1 font-semibold" :class="section === each.name ? 'border-ink' : 'border-transparent text-muted hover:text-ink'" :aria-current="section === each.name ? 'true' : undefined" @click="show(each.name)">{{ each.words }}</button>
        <span v-if="shown.snapshotId" class="ml-auto self-center text-muted">snapshot <CopyText :text="shown.snapshotId" /></span>
      </nav>
      <TableRows v-if="section === 'rows'" :namespace="namespace" :table="table" :version="shown.version" :past="past" :total="shown.rows" />
      <TableHistory v-else-if="section === 'history'" :entries="history.value.value?.entries ?? []" :viewing="shown.version" @view="view" />
      <TableProfile v-else-if="section === 'profile'" :base="base" />
      <TableLoad v-else-if="section === 'load'" :base="base" :detail="shown" @undone="reloadAll" />
      <TableBranches v-else-if="section === 'branches'" :base="base" :detail="shown" :full="full" @view="view" @changed="facts.reload" />
      <IcebergProperties v-else-if="section === 'properties' && shown.format === 'iceberg'" :base="base" :past="past" @converted="reloadAll" />
      <IcebergUpkeep v-else-if="section === 'upkeep' && shown.format === 'iceberg'" :base="base" :detail="shown" />
      <TableProperties v-else-if="section === 'properties'" :base="base" :past="past" @converted="reloadAll" />
      <TableUpkeep v-else-if="section === 'upkeep'" :base="base" :detail="shown" />
      <TableMisfits v-else-if="section === 'misfits'" :base="base" :storage="shown.storage ?? ''" />
      <TableColumns v-else :detail="shown" :now="now.value.value" :chosen="typeof route.query.column === 'string' ? route.query.column : ''" @changed="reloadAll" />
    </template>
    <LoadingLine v-else-if="!detail.problem.value" what="the table" />
  </PageFrame>
</template>
