<script setup lang="ts">
/** What a Delta table asks of its readers and writers, and its properties with their meaning, to be set. */
import { computed } from 'vue';
import { call } from '../../api/client';
import type { DeltaProtocol } from '../../api/delta-types';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import TagMark from '../../design/TagMark.vue';
import { useLoad } from '../../stores/load';
import FormatConversion from './FormatConversion.vue';
import PropertyList from './PropertyList.vue';

const props = defineProps<{ base: string; past: boolean }>();
defineEmits<{ converted: [] }>();
const protocol = useLoad(() => call<DeltaProtocol>(`${props.base}/delta`));
void protocol.reload();
const rules = computed(() => {
  const { required = [], conditions = [], generated = [], defaults = [] } = protocol.value.value?.rules ?? {};
  return [
    ...required.map((name) => ({ name, text: 'must have a value' })), ...conditions.map(({ name, sql }) => ({ name, text: sql })),
    ...generated.map(({ column, sql }) => ({ name: column, text: `is always ${sql}` })), ...defaults.map(({ column, sql }) => ({ name: column, text: `is ${sql} when not given` })),
  ];
});
</script>

<template>
  <ProblemBox v-if="protocol.problem.value" :problem="protocol.problem.value" can-retry @retry="protocol.reload" />
  <LoadingLine v-else-if="!protocol.value.value" what="properties" />
  <div v-else class="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_300px] gap-3.5">
    <PropertyList :properties="protocol.value.value.properties" :path="`${base}/delta/properties`" :past="past" :now="`now, version ${protocol.value.value.version}`" @set="protocol.reload" />
    <aside class="min-h-0 overflow-auto border border-rule bg-card px-4 py-3" tabindex="0" aria-label="Protocol">
      <h2>What readers and writers must know</h2>
      <p class="mt-1">Reader version {{ protocol.value.value.readerVersion }}, writer version {{ protocol.value.value.writerVersion }}.</p>
      <dl class="mt-2">
        <template v-for="each in protocol.value.value.features" :key="each.name">
          <dt class="mt-2 flex flex-wrap items-center gap-1.5"><span class="mono font-semibold">{{ each.name }}</span><TagMark v-if="each.forReaders">readers too</TagMark><TagMark v-if="each.write === 'no'" tone="rust">not written here</TagMark></dt>
          <dd class="text-muted">{{ each.means }}</dd>
        </template>
      </dl>
      <template v-if="rules.length > 0">
        <h2 class="mt-5">Rules for new rows</h2>
        <dl class="mt-1"><template v-for="each in rules" :key="`${each.name} ${each.text}`"><dt class="mono mt-1.5 font-semibold">{{ each.name }}</dt><dd class="mono text-muted">{{ each.text }}</dd></template></dl>
      </template>
      <template v-if="protocol.value.value.applications.length > 0">
        <h2 class="mt-5">Applications that write</h2>
        <p v-for="each in protocol.value.value.applications" :key="each.name" class="mt-1"><span class="mono">{{ each.name }}</span>, last {{ each.version }}</p>
      </template>
      <FormatConversion v-if="!past" :base="base" to="iceberg" @converted="$emit('converted')" />
    </aside>
  </div>
</template>
