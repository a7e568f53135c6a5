<script setup lang="ts">
/** Rows by the page, drawn only where they are seen: a hundred thousand scroll as ten do. */
import { useVirtualizer } from '@tanstack/vue-virtual';
import { computed, reactive, ref, watch } from 'vue';
import type { ResultColumn } from '../api/types';
import { cellText, countText, isNumeric } from './format';

const ROW = 27;
const props = defineProps<{
  columns: ResultColumn[];
  rowCount: number;
  /** The first rows, which are there already. */
  firstRows: unknown[][];
  pageRows?: number;
  loadPage?: (page: number) => Promise<unknown[][]>;
  label: string;
  /** Says each column's type under its name. */
  withTypes?: boolean;
}>();

const scroller = ref<HTMLElement>();
const pages = reactive(new Map<number, unknown[][] | 'loading' | 'failed'>());
const pageSize = computed(() => props.pageRows ?? 500);
watch(() => props.firstRows, (rows) => {
  pages.clear();
  pages.set(0, rows);
  if (scroller.value) scroller.value.scrollTop = 0;
}, { immediate: true });

const virtualizer = useVirtualizer(computed(() => ({ count: props.rowCount, getScrollElement: () => scroller.value ?? null, estimateSize: () => ROW, overscan: 12 })));
const items = computed(() => virtualizer.value.getVirtualItems());
watch(items, (seen) => {
  for (const page of new Set(seen.map((item) => Math.floor(item.index / pageSize.value)))) void want(page);
});

async function want(page: number): Promise<void> {
  if (pages.has(page) || !props.loadPage) return;
  pages.set(page, 'loading');
  try {
    pages.set(page, await props.loadPage(page));
  } catch {
    pages.set(page, 'failed');
  }
}

function rowAt(index: number): unknown[] | undefined {
  const page = pages.get(Math.floor(index / pageSize.value));
  return Array.isArray(page) ? page[index % pageSize.value] : undefined;
}

/** Wide enough for the name and the first rows, within reason. */
const widths = computed(() => props.columns.map((column, index) => {
  const longest = props.firstRows.slice(0, 60).reduce((most, row) => Math.max(most, cellText(row[index]).length), 0);
  return Math.round(Math.min(340, Math.max(64, column.name.length * 7.3 + 26, longest * 7.3 + 26)));
}));
const gutter = computed(() => Math.max(38, countText(props.rowCount).length * 7.5 + 18));
const total = computed(() => gutter.value + widths.value.reduce((sum, width) => sum + width, 0));
const numeric = computed(() => props.columns.map((column) => isNumeric(column.type)));
</script>

<template>
  <div ref="scroller" class="min-h-0 overflow-auto" role="table" :aria-label="label" :aria-rowcount="rowCount + 1" tabindex="0">
    <div :style="{ width: `${total}px`, minWidth: '100%' }">
      <div class="sticky top-0 z-10 flex border-b border-ink bg-card" role="row">
        <span role="columnheader" class="shrink-0 text-transparent" :style="{ width: `${gutter}px` }">row</span>
        <span v-for="(column, index) in columns" :key="index" role="columnheader" class="shrink-0 truncate px-2.5 py-1.5 font-semibold" :class="numeric[index] ? 'text-right' : ''" :style="{ width: `${widths[index]}px` }" :title="`${column.name}: ${column.type}`">{{ column.name }}<span v-if="withTypes" class="mono block truncate text-tiny font-normal text-muted">{{ column.type }}</span></span>
      </div>
      <div class="relative" :style="{ height: `${virtualizer.getTotalSize()}px` }" role="rowgroup">
        <div v-for="item in items" :key="item.index" class="absolute flex w-full border-b border-hairline hover:bg-paper" role="row" :aria-rowindex="item.index + 2" :style="{ height: `${ROW}px`, transform: `translateY(${item.start}px)` }">
          <span role="rowheader" class="mono shrink-0 px-2 py-1 text-right text-muted" :style="{ width: `${gutter}px` }">{{ countText(item.index + 1) }}</span>
          <template v-if="rowAt(item.index)">
            <span v-for="(value, index) in rowAt(item.index)" :key="index" role="cell" class="mono shrink-0 truncate px-2.5 py-1" :class="[numeric[index] ? 'text-right' : '', value === null ? 'text-muted italic' : '']" :style="{ width: `${widths[index]}px` }" :title="cellText(value)">{{ value === null ? 'null' : cellText(value) }}</span>
          </template>
          <span v-else role="cell" class="px-2.5 py-1 text-muted">{{ pages.get(Math.floor(item.index / pageSize)) === 'failed' ? 'These rows are no longer kept; run the query again.' : '…' }}</span>
        </div>
      </div>
    </div>
  </div>
</template>
