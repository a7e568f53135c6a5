<script setup lang="ts">
/** Where each column is present, over the files in order of their path: filled, partly filled, or an empty frame. */
import type { Evidence } from '../api/types';

const props = defineProps<{ columns: Evidence['columns']; buckets: string[] }>();
const CELL = 17;
const marks = () => {
  const every = Math.max(1, Math.ceil(props.buckets.length / 3));
  return props.buckets.map((label, index) => ({ label: label.length > 10 ? `…${label.slice(-9)}` : label, index })).filter(({ index }) => index % every === 0);
};
const words = (column: Evidence['columns'][number], index: number) => {
  const share = column.presence[index] ?? 0;
  return `${column.name}, files from ${props.buckets[index]}: ${share === 1 ? 'in all' : share === 0 ? 'in none' : `in ${Math.round(share * 100)}%`}`;
};
</script>

<template>
  <div class="overflow-x-auto" role="img" :aria-label="`Presence of ${columns.length} columns over ${buckets.length} groups of files; partly or not everywhere: ${columns.filter((each) => each.presence.some((share) => share < 1)).map((each) => each.name).join(', ') || 'none'}`">
    <div class="relative ml-[152px] h-4 text-tiny text-muted">
      <span v-for="mark in marks()" :key="mark.index" class="mono absolute" style="font-size: 10px" :style="{ left: `${mark.index * CELL}px` }">{{ mark.label }}</span>
    </div>
    <div v-for="column in columns" :key="column.name" class="flex items-center py-px">
      <span class="mono w-[152px] shrink-0 truncate pr-2" :class="column.clash ? 'font-semibold text-rust' : column.isNew ? 'font-semibold text-dusk' : ''" :title="`${column.name}: ${column.type}`">{{ column.name }}</span>
      <span
        v-for="(share, index) in column.presence" :key="index" class="mr-[2px] h-[11px] w-[15px] border" :title="words(column, index)"
        :class="share === 0 ? 'border-rule' : column.clash ? 'border-rust bg-rust' : column.isNew ? 'border-dusk bg-dusk' : 'border-tide bg-tide'"
        :style="{ opacity: share === 0 ? 1 : 0.35 + 0.65 * share }"
      ></span>
    </div>
  </div>
</template>
