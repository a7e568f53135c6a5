<script setup lang="ts">
import { computed, ref } from 'vue';
import type { TableDetail } from '../../api/types';
import { percentText, plural } from '../../design/format';
import TagMark from '../../design/TagMark.vue';
import AlterTable from './AlterTable.vue';
import ColumnNote from './ColumnNote.vue';

const props = defineProps<{ detail: TableDetail; now: TableDetail | undefined; chosen: string }>();
defineEmits<{ changed: [] }>();
const canChange = computed(() => !props.detail.past && (props.detail.format === 'delta' || props.detail.format === 'iceberg'));
const changing = ref('');
const roles: Record<string, string> = { partition: 'partition', sort: 'sort' };
const later = computed(() => (props.now && props.detail.past ? props.now.columns.filter((column) => !props.detail.columns.some((each) => each.name.toLowerCase() === column.name.toLowerCase())) : []));
const properties = computed(() => Object.entries(props.detail.properties).sort(([a], [b]) => (a < b ? -1 : 1)));
</script>

<template>
  <div class="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_310px] gap-3.5">
    <section class="min-h-0 overflow-auto border border-rule bg-card" tabindex="0" aria-label="Columns">
      <table class="w-full text-left">
        <thead class="sticky top-0 border-b border-ink bg-card"><tr><th class="px-3 py-1.5">Column</th><th>Type</th><th class="pr-5 text-right">Null</th><th>Mark</th><th>Description</th></tr></thead>
        <tbody>
          <tr v-for="column in detail.columns" :key="column.name" class="group border-b border-hairline" :class="column.name === chosen ? 'bg-tide-soft' : ''">
            <td class="mono px-3 py-1.5 font-semibold">{{ column.name }}<button v-if="canChange" class="plain-link ml-2 font-sans text-small font-normal opacity-0 group-hover:opacity-100 focus:opacity-100" :aria-label="`Change ${column.name}`" @click="changing = column.name">change</button></td>
            <td class="mono max-w-[260px] py-1.5 break-words">{{ column.type }}</td>
            <td class="mono pr-5 text-right">{{ column.nulls === null ? '' : percentText(column.nulls) }}</td>
            <td class="space-x-1"><TagMark v-if="column.role" tone="tide">{{ roles[column.role] }}</TagMark><TagMark v-if="column.required">required</TagMark></td>
            <td class="py-1 pr-2"><ColumnNote :detail="detail" :column="column.name" :comment="column.comment" /></td>
          </tr>
          <tr v-for="column in later" :key="column.name" class="border-b border-hairline text-muted">
            <td class="mono px-3 py-1.5">{{ column.name }}</td><td class="mono">{{ column.type }}</td><td></td><td><TagMark tone="dusk">came later</TagMark></td><td>{{ column.comment }}</td>
          </tr>
        </tbody>
      </table>
    </section>
    <aside class="min-h-0 overflow-auto border border-rule bg-card px-4 py-3" tabindex="0" aria-label="Layout and properties">
      <AlterTable v-if="canChange" class="mb-4 border-b border-hairline pb-3" :detail="detail" :column="changing" @changed="$emit('changed')" />
      <h2>How it is kept</h2>
      <p class="mt-1">{{ detail.partitioning.length > 0 ? `Partitioned by ${detail.partitioning.map((each) => (each.transform === 'identity' ? each.source : `${each.transform}(${each.source})`)).join(', ')}` : 'Not partitioned' }}<template v-if="detail.sortedBy.length > 0">; sorted by {{ detail.sortedBy.join(', ') }}</template>.</p>
      <h2 class="mt-4">Table properties</h2>
      <p v-if="properties.length === 0" class="mt-1 text-muted">None are set.</p>
      <dl v-else class="mt-1"><template v-for="[key, value] in properties" :key="key"><dt class="mono break-words text-muted">{{ key }}</dt><dd class="mono mb-1.5 break-words">{{ value }}</dd></template></dl>
      <p class="mt-2 text-muted">{{ plural(detail.columns.length, 'column') }} at version {{ detail.version }}.</p>
    </aside>
  </div>
</template>
