<script setup lang="ts">
/** How a column's values lie between the least and the greatest, with the middle half marked. */
import { scaleLinear } from 'd3';
import { computed } from 'vue';
import { countText, timeText } from '../design/format';

const props = defineProps<{ from: number; to: number; counts: readonly number[]; isTime: boolean; quantiles: readonly number[] | null; label: string }>();
const WIDTH = 190;
const HEIGHT = 34;
const y = computed(() => scaleLinear([0, Math.max(1, ...props.counts)], [0, HEIGHT]));
const x = computed(() => scaleLinear([props.from, props.to === props.from ? props.from + 1 : props.to], [0, WIDTH]));
const step = computed(() => WIDTH / props.counts.length);
const edge = (at: number) => props.from + ((props.to - props.from) * at) / props.counts.length;
const text = (value: number) => (props.isTime ? timeText(value) : String(Number(value.toPrecision(4))));
</script>

<template>
  <svg :width="WIDTH" :height="HEIGHT + 5" role="img" :aria-label="`${label}: from ${text(from)} to ${text(to)}`">
    <rect v-for="(count, at) in counts" :key="at" :x="at * step" :y="HEIGHT - y(count)" :width="Math.max(1, step - 1)" :height="Math.max(count > 0 ? 1 : 0, y(count))" class="fill-tide"><title>{{ text(edge(at)) }} to {{ text(edge(at + 1)) }}: {{ countText(count) }} rows</title></rect>
    <line x1="0" :x2="WIDTH" :y1="HEIGHT + 0.5" :y2="HEIGHT + 0.5" class="stroke-rule" />
    <template v-if="quantiles"><line :x1="x(quantiles[1]!)" :x2="x(quantiles[3]!)" :y1="HEIGHT + 3" :y2="HEIGHT + 3" stroke-width="2" class="stroke-dusk" /><circle :cx="x(quantiles[2]!)" :cy="HEIGHT + 3" r="2" class="fill-dusk" /></template>
  </svg>
</template>
