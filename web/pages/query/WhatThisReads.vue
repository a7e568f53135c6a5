<script setup lang="ts">
/** Before running: each table with its version, the files it would read, and how much that is. */
import { computed } from 'vue';
import { tableLink, type Problem } from '../../api/client';
import type { ReadMap } from '../../api/types';
import ReadBars from '../../charts/ReadBars.vue';
import { bytesText, countText, formatName, plural, timeText, utcText } from '../../design/format';
import TagMark from '../../design/TagMark.vue';

const props = defineProps<{ maps: ReadMap[] | undefined; does: readonly string[]; problem: Problem | undefined; stale: boolean }>();
const bytes = computed(() => (props.maps ?? []).reduce((sum, map) => sum + map.bytes.read, 0));
const link = (map: ReadMap) => (map.name.includes(':') ? undefined : { path: tableLink(map.name), query: map.past ? { version: String(map.version) } : {} });
</script>

<template>
  <section class="border border-rule bg-card px-4 py-3" aria-label="What this reads">
    <header class="flex items-baseline justify-between"><h2>{{ does.length > 0 ? 'What this does' : 'What this reads' }}</h2><span class="text-muted">{{ stale ? 'looking …' : 'before you run' }}</span></header>
    <p v-if="problem" class="mt-1.5 border-l-2 border-rust pl-2 break-words" role="status">{{ problem.message }} <span v-if="problem.more.hint" class="text-muted">{{ problem.more.hint }}</span></p>
    <p v-else-if="!maps" class="mt-1.5 text-muted">Write a query: the files it would read are counted while you type.</p>
    <template v-else-if="does.length > 0"><p v-for="each in does" :key="each" class="mt-1.5">{{ each }}</p></template>
    <p v-else-if="maps.length === 0" class="mt-1.5 text-muted">No table is named, so no file is read.</p>
    <template v-else>
      <article v-for="(map, index) in maps" :key="`${map.name} ${map.version} ${index}`" class="border-b border-hairline py-2" :class="stale ? 'opacity-60' : ''">
        <p class="flex flex-wrap items-center gap-2"><component :is="link(map) ? 'RouterLink' : 'b'" :to="link(map)" class="font-semibold break-all" :class="link(map) ? 'hover:text-tide' : ''">{{ map.name }}</component> <TagMark>{{ formatName(map.format) }}</TagMark></p>
        <template v-if="map.asked"><p class="text-muted">asked of the database, which keeps no versions:</p><pre class="mono max-h-28 overflow-auto bg-paper px-2 py-1 whitespace-pre-wrap break-words" tabindex="0">{{ map.asked }}</pre></template>
        <template v-else>
        <p class="mb-1"><TagMark :tone="map.past ? 'brass' : 'plain'"><span :title="utcText(map.committedAt)">version {{ map.version }}, {{ timeText(map.committedAt) }}</span></TagMark></p>
        <ReadBars :map="map" />
        <p class="mt-0.5"><b>{{ plural(map.files.read, 'file') }}</b> of {{ countText(map.files.total) }} to read, {{ bytesText(map.bytes.read) }}</p>
        <p v-for="skip in map.skippedBy" :key="`${skip.kind} ${skip.column}`" class="text-small text-muted">{{ countText(skip.files) }} skipped by {{ skip.kind === 'partition' ? 'partition' : 'bounds' }} of {{ skip.column }}</p>
        <p v-if="map.unplanned" class="text-small text-muted break-words">{{ map.unplanned }}</p>
        </template>
      </article>
      <p class="flex justify-between pt-2"><span>To read at most</span><b class="mono">{{ bytesText(bytes) }}</b></p>
    </template>
  </section>
</template>
