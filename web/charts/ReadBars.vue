<script setup lang="ts">
/** A table's files: a row a partition, segments as wide as their bytes; filled will be read, hatched is skipped. */
import { scaleLinear } from 'd3';
import { computed, ref } from 'vue';
import type { ReadMap } from '../api/types';
import { bytesText, countText, plural } from '../design/format';

const props = defineProps<{ map: ReadMap }>();
const chosen = ref<string>();
const widest = computed(() => Math.max(1, ...props.map.partitions.map((each) => each.segments.reduce((sum, segment) => sum + segment.bytes, 0))));
const x = computed(() => scaleLinear([0, widest.value], [0, 100]));
const unlabelled = computed(() => props.map.partitions.length === 1 && props.map.partitions[0]!.label === '');
type Segment = ReadMap['partitions'][number]['segments'][number];
function words(segment: Segment): string {
  const what = segment.path ?? plural(segment.files, 'file');
  const rows = segment.rows === null ? '' : `, ${plural(segment.rows, 'row')}`;
  return `${what}, ${bytesText(segment.bytes)}${rows}: ${segment.read ? 'will be read' : segment.because ? `skipped, ${segment.because} cannot match` : 'skipped, its bounds cannot match'}`;
}
</script>

<template>
  <div>
    <div v-for="part in map.partitions" :key="part.label" class="flex items-center gap-2 py-[1.5px]">
      <span v-if="!unlabelled" class="w-[74px] shrink-0 truncate text-small text-muted" :title="part.label">{{ part.label || 'all' }}</span>
      <span class="flex h-[11px] min-w-0 flex-1">
        <button
          v-for="(segment, index) in part.segments" :key="index" class="mr-px h-full min-w-[2px] shrink border" :class="segment.read ? 'border-tide bg-tide' : 'hatch border-muted'"
          :style="{ width: `${x(segment.bytes)}%` }" :title="words(segment)" :aria-label="words(segment)" @click="chosen = words(segment)"
        ></button>
      </span>
    </div>
    <p v-if="chosen" class="mt-1 border-l-2 border-tide pl-2 text-small break-all" role="status">{{ chosen }}</p>
    <p v-if="map.partitionsNotShown > 0 || map.partitionsSkippedWhole > 0" class="text-small text-muted">and {{ [map.partitionsNotShown > 0 ? `${countText(map.partitionsNotShown)} more` : '', map.partitionsSkippedWhole > 0 ? `${plural(map.partitionsSkippedWhole, 'partition')} skipped whole` : ''].filter(Boolean).join(', ') }}</p>
  </div>
</template>
