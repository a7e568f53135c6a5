<script setup lang="ts">
/** The chosen table or view in short. */
import { computed, ref } from 'vue';
import type { TableDetail } from '../../api/types';
import { escapePath } from '../../api/client';
import ArrivalBars from '../../charts/ArrivalBars.vue';
import BaseButton from '../../design/BaseButton.vue';
import DescriptionLine from './DescriptionLine.vue';
import KnowledgeLines from './KnowledgeLines.vue';
import UnregisterPanel from './UnregisterPanel.vue';
import CopyText from '../../design/CopyText.vue';
import { bytesText, countText, formatName, plural, timeText, utcText } from '../../design/format';
import TagMark from '../../design/TagMark.vue';
import { queryLink, tableName } from '../query/link';

const props = defineProps<{ detail: TableDetail }>();
const emit = defineEmits<{ gone: [] }>();
const unregistering = ref(false);
const full = computed(() => tableName(props.detail.namespace, props.detail.name));
const partitioning = computed(() => props.detail.partitioning?.map((each) => (each.transform === 'identity' ? each.source : `${each.transform}(${each.source})`)).join(', ') ?? '');
</script>

<template>
  <article class="px-5 py-3">
    <header class="flex flex-wrap items-center gap-2.5">
      <h2 class="text-[19px]">{{ detail.name }}</h2>
      <TagMark>{{ formatName(detail.format) }}</TagMark>
      <span class="ml-auto flex gap-2">
        <BaseButton @click="$router.push(queryLink(`SELECT *\nFROM ${full}\nLIMIT 100`))">Query</BaseButton>
        <BaseButton v-if="detail.kind === 'table'" look="strong" @click="$router.push(`/tables/${encodeURIComponent(detail.namespace)}/${encodeURIComponent(detail.name)}`)">Open table</BaseButton>
      </span>
    </header>
    <DescriptionLine :namespace="detail.namespace" :name="detail.name" :description="detail.description" />
    <KnowledgeLines :detail="detail" />
    <template v-if="detail.kind === 'view'">
      <h3 class="mt-4 font-semibold">Its query</h3>
      <pre class="mt-1 overflow-x-auto bg-paper px-3 py-2 whitespace-pre-wrap" tabindex="0">{{ detail.viewSql }}</pre>
      <p v-if="detail.viewDialect" class="mt-1 border-l-2 border-rust pl-2">Written in the dialect {{ detail.viewDialect.dialect }}, with {{ detail.viewDialect.problem }}, so it cannot be queried here.</p>
    </template>
    <template v-else>
      <dl class="grid grid-cols-[118px_minmax(0,1fr)] [&>*]:border-b [&>*]:border-hairline [&>*]:py-1.5 [&>dt]:text-muted">
        <dt>Rows, files, size</dt><dd v-if="detail.format === 'postgres'" class="mono">{{ detail.rows === null ? 'rows not counted' : `about ${countText(detail.rows)} rows` }} in a database, read where it is</dd><dd v-else class="mono">{{ detail.rows === null ? 'rows not counted' : countText(detail.rows) }} in {{ plural(detail.files, 'file') }}, {{ bytesText(detail.bytes) }}</dd>
        <template v-if="detail.format !== 'postgres'"><dt>Last commit</dt><dd :title="utcText(detail.committedAt)">{{ timeText(detail.committedAt) }}, version {{ detail.version }}</dd></template>
        <dt>Partitioned by</dt><dd class="mono">{{ partitioning || 'not partitioned' }}</dd>
        <template v-if="detail.sortedBy.length > 0"><dt>Sorted by</dt><dd class="mono">{{ detail.sortedBy.join(', ') }}</dd></template>
        <dt>Kept at</dt><dd><CopyText :text="`${detail.storage}:${detail.location}`" /> <RouterLink class="plain-link ml-2" :to="`/storage/${encodeURIComponent(detail.storage!)}/${escapePath(detail.location!)}`">open folder</RouterLink></dd>
        <dt>Files on drop</dt><dd>{{ detail.managed ? 'managed: dropping the table removes its files' : 'external: dropping the table leaves its files' }}</dd>
      </dl>
      <ArrivalBars v-if="detail.arrivals.length > 1" class="mt-4" :arrivals="detail.arrivals" />
    </template>
    <button v-if="!unregistering" class="plain-link mt-4 text-muted" @click="unregistering = true">take it out of the catalog …</button>
    <UnregisterPanel v-else :detail="detail" @close="unregistering = false" @gone="emit('gone')" />
  </article>
</template>
