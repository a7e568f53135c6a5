<script setup lang="ts">
/** Rows (or files, where rows are not known) by day; days without any show as gaps and are counted. */
import { scaleLinear, scaleUtc, utcDay } from 'd3';
import { computed } from 'vue';
import type { TableDetail } from '../api/types';
import { countText, shortDayText } from '../design/format';

const props = defineProps<{ arrivals: TableDetail['arrivals'] }>();
const WIDTH = 420;
const HEIGHT = 74;
const LEFT = 34;
const byRows = computed(() => props.arrivals.every((each) => each.rows !== null));
const value = (each: TableDetail['arrivals'][number]) => (byRows.value ? each.rows! : each.files);
const first = computed(() => new Date(props.arrivals[0]!.day));
const last = computed(() => new Date(props.arrivals.at(-1)!.day));
const x = computed(() => scaleUtc([first.value, utcDay.offset(last.value, 1)], [LEFT, WIDTH]));
const most = computed(() => Math.max(...props.arrivals.map(value)));
const y = computed(() => scaleLinear([0, most.value], [HEIGHT - 16, 8]));
const barWidth = computed(() => Math.max(1, x.value(utcDay.offset(first.value, 1)) - LEFT - 1));
const missing = computed(() => utcDay.count(first.value, last.value) + 1 - props.arrivals.length);
/** Days with clearly fewer rows than usual are drawn paler and named. */
const usual = computed(() => [...props.arrivals].map(value).sort((a, b) => a - b)[Math.floor(props.arrivals.length / 2)]!);
const thin = computed(() => props.arrivals.filter((each) => value(each) < usual.value * 0.99));
</script>

<template>
  <figure>
    <figcaption class="mb-1 font-semibold">{{ byRows ? 'Rows' : 'Files' }} by day</figcaption>
    <svg :viewBox="`0 0 ${WIDTH} ${HEIGHT}`" class="w-full max-w-[560px]" role="img" :aria-label="`${arrivals.length} days from ${arrivals[0]!.day} to ${arrivals.at(-1)!.day}, ${missing} without any, at most ${countText(most)} a day`">
      <line :x1="LEFT" :x2="WIDTH" :y1="HEIGHT - 16" :y2="HEIGHT - 16" class="stroke-ink" />
      <rect
        v-for="each in arrivals" :key="each.day" :x="x(new Date(each.day))" :y="y(value(each))" :width="barWidth" :height="HEIGHT - 16 - y(value(each))"
        :class="thin.includes(each) ? 'fill-muted' : 'fill-tide'"
      ><title>{{ each.day }}: {{ countText(value(each)) }} {{ byRows ? 'rows' : 'files' }}</title></rect>
      <text :x="LEFT - 4" y="14" text-anchor="end" class="mono fill-muted" style="font-size: 9px">{{ countText(most) }}</text>
      <text :x="LEFT - 4" :y="HEIGHT - 16" text-anchor="end" class="mono fill-muted" style="font-size: 9px">0</text>
      <text :x="LEFT" :y="HEIGHT - 4" class="fill-muted" style="font-size: 9px">{{ shortDayText(first.getTime()) }}</text>
      <text :x="WIDTH" :y="HEIGHT - 4" text-anchor="end" class="fill-muted" style="font-size: 9px">{{ shortDayText(last.getTime()) }}</text>
    </svg>
    <p class="text-small text-muted">{{ missing === 0 ? 'No day is missing.' : missing === 1 ? 'One day is missing.' : `${missing} days are missing.` }}<template v-if="thin.length > 0 && thin.length <= 6"> Fewer than usual on {{ thin.map((each) => shortDayText(each.day)).join(', ') }}.</template></p>
  </figure>
</template>
