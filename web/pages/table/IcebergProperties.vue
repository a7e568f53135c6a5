<script setup lang="ts">
/** An Iceberg table's properties, its format version, and how rows have been divided into files. */
import { ref } from 'vue';
import { call } from '../../api/client';
import type { IcebergFacts } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import CopyText from '../../design/CopyText.vue';
import { plural } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import TagMark from '../../design/TagMark.vue';
import { useAct, useLoad } from '../../stores/load';
import FormatConversion from './FormatConversion.vue';
import PropertyList from './PropertyList.vue';

const props = defineProps<{ base: string; past: boolean }>();
defineEmits<{ converted: [] }>();
const facts = useLoad(() => call<IcebergFacts>(`${props.base}/iceberg`));
void facts.reload();
const upgrading = ref(false);
const { busy, problem, run } = useAct();
async function upgrade(): Promise<void> {
  if (!(await run(() => call(`${props.base}/iceberg/upgrade`, { body: { formatVersion: facts.value.value!.formatVersion + 1 } })))) return;
  upgrading.value = false;
  await facts.reload();
}
const GAINS: Record<number, string> = { 1: 'rows can then be deleted and changed', 2: 'rows can then be marked as deleted by vectors, have ids that stay, and columns have defaults' };
</script>

<template>
  <ProblemBox v-if="facts.problem.value" :problem="facts.problem.value" can-retry @retry="facts.reload" />
  <LoadingLine v-else-if="!facts.value.value" what="properties" />
  <div v-else class="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_300px] gap-3.5">
    <PropertyList :properties="facts.value.value.properties" :path="`${base}/iceberg/properties`" :past="past" now="now" @set="facts.reload" />
    <aside class="min-h-0 overflow-auto border border-rule bg-card px-4 py-3" tabindex="0" aria-label="Format">
      <h2>Format version {{ facts.value.value.formatVersion }}</h2>
      <p class="mt-1">{{ plural(facts.value.value.snapshots, 'snapshot') }}. {{ facts.value.value.ownedBy === 'catalog' ? 'This catalog says which metadata file is current; engines commit through it.' : 'Its own files say which metadata file is current; the catalog follows them.' }}</p>
      <template v-if="facts.value.value.formatVersion < 3">
        <p v-if="!upgrading" class="mt-2"><BaseButton @click="upgrading = true">Upgrade to version {{ facts.value.value.formatVersion + 1 }}…</BaseButton></p>
        <div v-else class="mt-2 border border-rule bg-paper px-3 py-2">
          <p>No file is rewritten; {{ GAINS[facts.value.value.formatVersion] }}. Engines that know only version {{ facts.value.value.formatVersion }} can no longer read the table, and there is no way back.</p>
          <p class="mt-2 flex flex-wrap gap-2"><BaseButton look="strong" :disabled="busy" @click="upgrade">Upgrade</BaseButton><BaseButton @click="upgrading = false">Leave it</BaseButton></p>
          <ProblemBox v-if="problem" class="mt-2" :problem="problem" />
        </div>
      </template>
      <h2 class="mt-5">Rows are divided by</h2>
      <ul class="mt-1">
        <li v-for="each in [...facts.value.value.partitionings].reverse()" :key="each.id">
          <span class="mt-1.5 flex items-center gap-1.5"><span>{{ each.fields.length === 0 ? 'Nothing' : '' }}<span class="mono font-semibold">{{ each.fields.map((field) => (field.transform === 'identity' ? field.source : `${field.transform} of ${field.source}`)).join(', ') }}</span></span><TagMark v-if="each.isCurrent">now</TagMark></span>
        </li>
      </ul>
      <p v-if="facts.value.value.partitionings.length > 1" class="mt-1 text-muted">Files keep the division that they were written with; queries skip files of each.</p>
      <template v-if="facts.value.value.sortOrder.length > 0"><h2 class="mt-5">Sorted by</h2><p class="mono mt-1">{{ facts.value.value.sortOrder.map((each) => `${each.column}${each.direction === 'desc' ? ' descending' : ''}`).join(', ') }}</p></template>
      <template v-if="facts.value.value.key.length > 0"><h2 class="mt-5">Key</h2><p class="mono mt-1">{{ facts.value.value.key.join(', ') }}</p></template>
      <h2 class="mt-5">Where</h2>
      <p class="mt-1"><CopyText :text="facts.value.value.location" /></p>
      <p class="mt-1 text-muted">UUID <CopyText :text="facts.value.value.uuid" /></p>
      <FormatConversion v-if="!past" :base="base" to="delta" @converted="$emit('converted')" />
    </aside>
  </div>
</template>
