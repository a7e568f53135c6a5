<script setup lang="ts">
import { computed, watch } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import { call } from '../../api/client';
import type { ColumnView, Crawl, NamespaceName, RelationName, TableDetail } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import EmptyState from '../../design/EmptyState.vue';
import { percentText, plural } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import TagMark from '../../design/TagMark.vue';
import PageFrame from '../../shell/PageFrame.vue';
import { useCatalog } from '../../stores/catalog';
import { useLive } from '../../stores/live';
import { useLoad } from '../../stores/load';
import DroppedTables from './DroppedTables.vue';
import NamespacePanel from './NamespacePanel.vue';
import PickColumn from './PickColumn.vue';
import RelationLine from './RelationLine.vue';
import RelationSummary from './RelationSummary.vue';

const route = useRoute();
const router = useRouter();
const catalog = useCatalog();
void catalog.refresh();
const namespace = computed(() => (route.params.namespace as string | undefined) ?? '');
const table = computed(() => (route.params.table as string | undefined) ?? '');
const inNamespace = computed(() => catalog.relations.filter((each) => each.namespace.toLowerCase() === namespace.value.toLowerCase()));
const relation = computed(() => inNamespace.value.find((each) => each.name.toLowerCase() === table.value.toLowerCase()));

const detail = useLoad<TableDetail | undefined>(async () => (relation.value ? catalog.detail(relation.value.namespace, relation.value.name) : undefined));
watch(relation, (now, before) => {
  if (now?.id !== before?.id) detail.value.value = undefined;
  void detail.reload();
}, { immediate: true });
useLive((event) => (event.topic === 'table' || event.topic === 'catalog') && void detail.reload());

const crawls = useLoad(() => call<Crawl[]>('/crawls'));
void crawls.reload();
useLive((event) => event.topic === 'crawl' && void crawls.reload());
const toLookAt = computed(() => (crawls.value.value ?? []).filter((crawl) => (crawl.lastRun?.undecided ?? 0) > 0));
const undecided = computed(() => toLookAt.value.reduce((sum, crawl) => sum + crawl.lastRun!.undecided, 0));

const link = (...names: string[]) => `/catalog/${names.map(encodeURIComponent).join('/')}`;
const steps = computed(() => [
  { label: 'Catalog', to: '/catalog' },
  ...(namespace.value ? [{ label: namespace.value, to: link(namespace.value), siblings: catalog.namespaces.map(({ name }) => ({ label: name, to: link(name) })) }] : []),
  ...(relation.value ? [{ label: relation.value.name, siblings: inNamespace.value.map(({ name }) => ({ label: name, to: link(namespace.value, name) })) }] : []),
]);
const shownNamespace = computed(() => catalog.namespaces.find((each) => each.name.toLowerCase() === namespace.value.toLowerCase()));
const storages = useLoad(() => call<{ name: string }[]>('/storages'));
void storages.reload();
const contents = (each: NamespaceName) => [each.tables > 0 ? plural(each.tables, 'table') : '', each.views > 0 ? plural(each.views, 'view') : ''].filter(Boolean).join(', ') || 'empty';
const counts = computed(() => `${plural(catalog.namespaces.length, 'namespace')}, ${plural(catalog.relations.filter((each) => each.kind === 'table').length, 'table')} and ${plural(catalog.relations.filter((each) => each.kind === 'view').length, 'view')}.`);
const columns = computed(() => detail.value.value?.columns ?? []);
const roleWords: Record<string, string> = { partition: 'part', sort: 'sort' };
function chooseColumn(column: ColumnView): void {
  void router.push({ path: `/tables/${encodeURIComponent(namespace.value)}/${encodeURIComponent(table.value)}`, query: { section: 'columns', column: column.name } });
}
</script>

<template>
  <PageFrame :steps="steps">
    <template #title>
      <h1>Catalog</h1>
      <span class="text-muted">{{ counts }} <RouterLink v-if="undecided > 0" class="plain-link font-semibold text-dusk" :to="`/crawls/${toLookAt[0]!.lastRun!.id}`">{{ undecided }} {{ undecided === 1 ? 'finding needs' : 'findings need' }} a look</RouterLink></span>
    </template>
    <template #actions><BaseButton @click="$router.push('/catalog-changes')">Changes</BaseButton><BaseButton @click="$router.push('/crawls')">Crawl a folder</BaseButton><BaseButton look="strong" @click="$router.push({ path: '/define', query: namespace ? { namespace } : {} })">Define a table</BaseButton></template>
    <ProblemBox v-if="catalog.problem" :problem="catalog.problem" can-retry @retry="catalog.refresh" />
    <LoadingLine v-else-if="catalog.namespaces.length === 0 && catalog.loading" what="the catalog" />
    <EmptyState v-else-if="catalog.namespaces.length === 0" title="The catalog is empty">
      Tables come into it from crawls: <RouterLink class="plain-link" to="/crawls">crawl a folder</RouterLink>, look at what was found, and register it.
    </EmptyState>
    <div v-else class="grid min-h-0 flex-1 border border-ink bg-card" :class="!namespace ? 'grid-cols-[190px_minmax(0,1fr)]' : !relation ? 'grid-cols-[190px_230px_minmax(0,1fr)]' : 'grid-cols-[150px_205px_minmax(250px,320px)_minmax(0,1fr)]'">
      <PickColumn v-slot="{ item }" title="Namespaces" :items="catalog.namespaces" :name-of="(each: NamespaceName) => each.name" :chosen="namespace" filter-label="Filter namespaces" @choose="(each) => $router.push(link(each.name))">
        <b class="block truncate font-semibold">{{ item.name }}</b><span class="block truncate text-small text-muted">{{ contents(item) }}</span>
      </PickColumn>
      <PickColumn v-if="namespace" v-slot="{ item }" :title="`${inNamespace.length} in ${namespace}`" :items="inNamespace" :name-of="(each: RelationName) => each.name" :chosen="table" filter-label="Filter tables" @choose="(each) => $router.push(link(namespace, each.name))">
        <RelationLine :relation="item" :with-rows="inNamespace.length <= 60" />
      </PickColumn>
      <div v-else class="min-h-0 overflow-auto px-5 py-4" tabindex="0" role="region" aria-label="The whole catalog">
        <p class="text-muted">Choose a namespace. Arrow keys walk the columns: up and down inside one, left and right between them.</p>
        <DroppedTables class="mt-6" />
      </div>
      <template v-if="namespace && relation">
        <PickColumn v-if="relation.kind === 'table'" :title="columns.length > 0 ? plural(columns.length, 'column') : 'Columns'" :items="columns" :name-of="(each: ColumnView) => each.name" chosen="" filter-label="Filter columns" @choose="chooseColumn">
          <template #default="{ item }"><span class="flex items-baseline gap-2">
            <span class="truncate" :title="item.comment ?? undefined">{{ item.name }}</span>
            <span class="mono ml-auto max-w-[110px] truncate text-muted" :title="item.type">{{ item.type }}</span>
            <span class="w-[52px] shrink-0 text-right text-small text-muted" :title="item.nulls === null ? 'The files do not say how many are null' : `${percentText(item.nulls)} null`">{{ item.nulls ? `${percentText(item.nulls)} null` : '' }}</span>
            <span class="w-9 shrink-0"><TagMark v-if="item.role" tone="tide">{{ roleWords[item.role] }}</TagMark></span>
          </span></template>
        </PickColumn>
        <div class="min-h-0 overflow-auto" :class="relation.kind === 'view' ? 'col-span-2' : ''" tabindex="0" role="region" aria-label="The chosen table">
          <ProblemBox v-if="detail.problem.value" class="m-4" :problem="detail.problem.value" can-retry @retry="detail.reload" />
          <RelationSummary v-else-if="detail.value.value" :key="`${namespace}.${table}`" :detail="detail.value.value" @gone="$router.push(link(namespace))" />
          <LoadingLine v-else what="the table" />
        </div>
      </template>
      <p v-else-if="namespace && table" class="px-5 py-4 text-muted">There is no {{ namespace }}.{{ table }} in the catalog.</p>
      <NamespacePanel v-else-if="shownNamespace" :namespace="shownNamespace" :storages="storages.value.value?.map((each) => each.name) ?? []" @gone="$router.push('/catalog')" />
      <p v-else-if="namespace" class="px-5 py-4 text-muted">There is no namespace {{ namespace }} in the catalog.</p>
    </div>
  </PageFrame>
</template>
