<script setup lang="ts">
/** A folder of which no file is chosen: the table that it is, and those below it. */
import { computed } from 'vue';
import { tableLink } from '../../api/client';
import type { FolderListing } from '../../api/types';
import { formatName } from '../../design/format';
import AdoptFolder from './AdoptFolder.vue';
import FolderTable from './FolderTable.vue';

const props = defineProps<{ listing: FolderListing }>();
const here = computed(() => props.listing.tables.filter((table) => table.location === props.listing.path));
const below = computed(() => props.listing.tables.filter((table) => table.location !== props.listing.path));
const parquet = computed(() => props.listing.files.filter((file) => file.path.endsWith('.parquet')).length);
const hasLog = computed(() => props.listing.folders.includes('_delta_log'));
</script>

<template>
  <section class="overflow-auto border border-rule bg-card px-4 py-3" aria-label="About this folder">
    <template v-if="here.length > 0">
      <h2>This folder is {{ here.length === 1 ? 'a table' : `${here.length} tables` }}</h2>
      <p v-for="table in here" :key="table.name" class="mt-1"><RouterLink class="plain-link font-semibold" :to="tableLink(table.name)">{{ table.name }}</RouterLink>, {{ formatName(table.format) }}. Its files belong together: open the table to read it at any of its versions.</p>
    </template>
    <h2 v-else-if="hasLog">This folder is a table, not registered yet</h2>
    <template v-else>
      <h2>Choose a file to look into it</h2>
      <p class="mt-1 text-muted">Its format is guessed from its first bytes and lines, and the first rows are shown. Crawl the folder to find all tables in it; nothing is registered before you say so.</p>
    </template>
    <AdoptFolder v-if="here.length === 0 && !hasLog && parquet > 0" :key="listing.path" :storage="listing.storage" :path="listing.path" :files="parquet" />
    <FolderTable v-if="hasLog" :storage="listing.storage" :path="listing.path" />
    <template v-if="below.length > 0">
      <h3 class="mt-5 mb-1 font-semibold text-muted">Tables below this folder</h3>
      <ul><li v-for="table in below" :key="table.name" class="flex gap-3 border-t border-hairline py-1"><RouterLink class="plain-link" :to="tableLink(table.name)">{{ table.name }}</RouterLink><span class="text-muted">{{ formatName(table.format) }}</span><span class="mono ml-auto text-muted">{{ table.location }}</span></li></ul>
    </template>
  </section>
</template>
