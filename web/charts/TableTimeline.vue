<script setup lang="ts">
/** A table's history on a line, with the handle that says which version is viewed. */
import { useElementSize } from '@vueuse/core';
import { scaleSymlog } from 'd3';
import { computed, ref, watch } from 'vue';
import type { TimelineEntry } from '../api/types';
import { bytesText, countText, dayText, plural, shortDayText, timeText, utcText } from '../design/format';
import { handleX, layoutTimeline, LEAST_GAP, nearestStem, type Stem } from './timeline-layout';

/** `flags`: names that stand for a version. */
const props = defineProps<{ entries: TimelineEntry[]; viewing: number; latest: number; flags?: readonly { version: number; name: string }[] }>();
const emit = defineEmits<{ view: [version: number] }>();
const box = ref<HTMLElement>();
const { width } = useElementSize(box);
const range = ref<[number, number]>();
watch(() => props.entries, () => (range.value = undefined));

const layout = computed(() => layoutTimeline(props.entries, Math.max(200, width.value), range.value?.[0] ?? 0, range.value?.[1] ?? props.entries.length - 1));
const AXIS = 82;
const most = computed(() => Math.max(1, ...layout.value.stems.flatMap((stem) => [stem.rowsAdded, stem.rowsRemoved])));
const height = computed(() => scaleSymlog([0, most.value], [0, 36]).constant(Math.max(1, most.value / 1000)));
const barHeight = (rows: number) => (rows === 0 ? 0 : Math.max(2, height.value(rows)));

const FLAG_MARKS = 16;
const flagged = computed(() => layout.value.stems.flatMap((stem) => {
  const names = (props.flags ?? []).filter(({ version }) => props.entries.slice(stem.first, stem.last + 1).some((each) => each.version === version)).map(({ name }) => name);
  const text = names.join(', ');
  return names.length === 0 ? [] : [{ x: stem.x, text: text.length > FLAG_MARKS ? `${text.slice(0, FLAG_MARKS - 1)}…` : text, all: text }];
}));
/** Only numbered versions can be viewed; the step before stands for one without a number. */
function versionOf(stem: Stem): number | undefined {
  for (let index = stem.last; index >= 0; index--) if (props.entries[index]!.version !== undefined) return props.entries[index]!.version;
  return undefined;
}
const versions = computed(() => props.entries.map((each) => each.version).filter((version) => version !== undefined));
const viewingIndex = computed(() => props.entries.findIndex((each) => each.version === props.viewing));
const viewingStem = computed(() => layout.value.stems.findIndex((stem) => stem.first <= viewingIndex.value && viewingIndex.value <= stem.last));
const dragX = ref<number>();
const handleAt = computed(() => dragX.value ?? (viewingStem.value < 0 ? undefined : handleX(layout.value, viewingStem.value)));
const isPast = computed(() => props.viewing !== props.latest);

function step(by: number): void {
  const at = versions.value.indexOf(props.viewing);
  const next = versions.value[Math.max(0, Math.min(versions.value.length - 1, at + by))];
  if (next !== undefined && next !== props.viewing) emit('view', next);
}
function pick(stem: Stem): void {
  if (stem.last > stem.first) {
    range.value = [stem.first, stem.last];
    return;
  }
  const version = versionOf(stem);
  if (version !== undefined) emit('view', version);
}
function onDrag(event: PointerEvent): void {
  if (dragX.value !== undefined) dragX.value = event.clientX - box.value!.getBoundingClientRect().left;
}
function onDrop(): void {
  if (dragX.value === undefined) return;
  const stem = layout.value.stems[nearestStem(layout.value, dragX.value)];
  dragX.value = undefined;
  const version = stem && versionOf(stem);
  if (version !== undefined && version !== props.viewing) emit('view', version);
}
function onGrab(event: PointerEvent): void {
  (event.currentTarget as Element).setPointerCapture(event.pointerId);
  dragX.value = handleAt.value;
}

const hovered = ref<number>();
const card = computed(() => {
  const stem = hovered.value === undefined ? undefined : layout.value.stems[hovered.value];
  if (!stem || dragX.value !== undefined) return undefined;
  const steps = props.entries.slice(stem.first, stem.last + 1);
  const one = steps.length === 1 ? steps[0] : undefined;
  const sum = (pick: (each: TimelineEntry) => number) => steps.reduce((total, each) => total + pick(each), 0);
  return {
    left: Math.min(Math.max(0, stem.x - 120), Math.max(0, width.value - 260)),
    title: one ? `${one.version === undefined ? '' : `version ${one.version}, `}${one.operation}` : `${plural(steps.length, 'step')}, versions ${stem.label}`,
    when: one ? timeText(one.at) : `${timeText(steps[0]!.at)} to ${timeText(steps.at(-1)!.at)}`,
    utc: utcText(steps[0]!.at),
    who: one?.who,
    rows: one && one.rowsAdded === undefined && one.rowsRemoved === undefined ? 'rows not counted' : `+${countText(sum((each) => each.rowsAdded ?? 0))} −${countText(sum((each) => each.rowsRemoved ?? 0))} rows`,
    files: `+${countText(sum((each) => each.filesAdded))} −${countText(sum((each) => each.filesRemoved))} files, +${bytesText(sum((each) => each.bytesAdded))} −${bytesText(sum((each) => each.bytesRemoved))}`,
    hint: steps.length > 1 ? 'Click to open these steps.' : '',
  };
});
defineExpose({ step });
</script>

<template>
  <section class="border border-rule bg-card" aria-label="Timeline">
    <div ref="box" class="relative select-none" @pointermove="onDrag" @pointerup="onDrop" @pointercancel="dragX = undefined">
      <svg v-if="entries.length > 0" class="block h-[136px] w-full" role="presentation" @mouseleave="hovered = undefined">
        <text v-for="date in layout.dates" :key="date.x" :x="date.x" y="15" text-anchor="middle" class="fill-muted" style="font-size: 11px">{{ date.withYear ? dayText(date.at) : shortDayText(date.at) }}</text>
        <line x1="8" :x2="Math.max(9, width - 8)" :y1="AXIS" :y2="AXIS" class="stroke-muted" stroke-width="1.5" />
        <g v-for="x in layout.breaks" :key="x" class="stroke-muted" fill="none" stroke-width="1.2">
          <rect :x="x - 4" :y="AXIS - 6" width="8" height="12" class="fill-card" stroke="none" />
          <path :d="`M${x - 5},${AXIS - 6} l4,6 l-4,6 M${x + 1},${AXIS - 6} l4,6 l-4,6`" />
        </g>
        <g v-for="(stem, index) in layout.stems" :key="stem.first" class="cursor-pointer" :data-version="stem.label" @mouseenter="hovered = index" @click="pick(stem)">
          <rect :x="stem.x - LEAST_GAP / 2" y="20" :width="LEAST_GAP" height="116" fill="transparent" />
          <rect v-if="stem.rowsAdded > 0 && !stem.isUpkeep" :x="stem.x - 3.5" :y="AXIS - barHeight(stem.rowsAdded)" width="7" :height="barHeight(stem.rowsAdded)" class="fill-tide" />
          <rect v-if="stem.rowsRemoved > 0 && !stem.isUpkeep" :x="stem.x - 3" :y="AXIS + 1" width="6" :height="barHeight(stem.rowsRemoved)" class="fill-card stroke-ink" stroke-width="1.3" />
          <path v-if="stem.changesColumns" :d="`M${stem.x},${AXIS - 6} l6,6 l-6,6 l-6,-6 z`" class="fill-dusk-soft stroke-dusk" stroke-width="1.5" />
          <circle v-else-if="stem.isUpkeep" :cx="stem.x" :cy="AXIS" r="4.5" class="fill-card stroke-ink" stroke-width="1.5" />
          <circle v-else-if="stem.rowsAdded === 0 && stem.rowsRemoved === 0" :cx="stem.x" :cy="AXIS" r="2.5" class="fill-muted" />
          <text :x="stem.x" y="131" text-anchor="middle" class="mono" :class="stem.first <= viewingIndex && viewingIndex <= stem.last ? 'fill-ink font-bold' : 'fill-muted'" style="font-size: 11px">{{ stem.label }}</text>
        </g>
        <g v-for="flag in flagged" :key="`flag ${flag.x}`" class="pointer-events-none text-dusk">
          <line :x1="flag.x + 6" :x2="flag.x + 6" y1="37" :y2="AXIS" stroke="currentColor" stroke-width="1" />
          <path :d="`M${flag.x + 6},37 h7 l-2.5,3.5 l2.5,3.5 h-7 z`" fill="currentColor" />
          <text :x="flag.x + 16" y="45" class="mono fill-dusk" style="font-size: 10px">{{ flag.text }}<title>{{ flag.all }}</title></text>
        </g>
        <g v-if="handleAt !== undefined" :class="isPast ? 'text-brass' : 'text-tide'">
          <line :x1="handleAt" :x2="handleAt" y1="34" y2="120" stroke="currentColor" stroke-width="2" />
          <g
            role="slider" tabindex="0" aria-label="Version viewed" :aria-valuemin="versions[0]" :aria-valuemax="versions.at(-1)" :aria-valuenow="viewing"
            :aria-valuetext="`version ${viewing}${isPast ? ', in the past' : ', now'}`" class="cursor-grab"
            @keydown.left.prevent.stop="step(-1)" @keydown.right.prevent.stop="step(1)" @keydown.home.prevent="emit('view', versions[0]!)" @keydown.end.prevent="emit('view', versions.at(-1)!)" @pointerdown.prevent="onGrab"
          >
            <rect :x="handleAt - 27" y="20" width="54" height="16" fill="currentColor" />
            <text :x="handleAt" y="31.5" text-anchor="middle" class="fill-on-strong font-semibold" style="font-size: 11px">viewing</text>
          </g>
        </g>
      </svg>
      <div v-if="card" class="pointer-events-none absolute top-full z-20 -mt-1 w-[260px] border border-ink bg-card px-3 py-2" :style="{ left: `${card.left}px` }">
        <p class="font-semibold">{{ card.title }}</p>
        <p :title="card.utc">{{ card.when }}<template v-if="card.who"> by {{ card.who }}</template></p>
        <p class="mono">{{ card.rows }}</p><p class="mono text-muted">{{ card.files }}</p><p v-if="card.hint" class="text-muted">{{ card.hint }}</p>
      </div>
    </div>
    <p class="flex flex-wrap gap-x-5 border-t border-hairline px-3 py-1 text-small text-muted">
      <span><span class="mr-1 inline-block size-2.5 bg-tide" aria-hidden="true"></span>rows added</span>
      <span><span class="mr-1 inline-block size-2.5 border border-ink" aria-hidden="true"></span>rows removed</span>
      <span><span class="text-dusk" aria-hidden="true">◇</span> columns</span><span><span aria-hidden="true">○</span> upkeep</span><span v-if="flagged.length > 0"><span class="text-dusk" aria-hidden="true">⚑</span> branch or tag</span><span v-if="layout.breaks.length > 0"><span aria-hidden="true">»</span> time shortened</span>
      <button v-if="range" class="plain-link" @click="range = undefined">show all versions</button>
      <span class="ml-auto">logarithmic; <kbd>←</kbd> <kbd>→</kbd> moves viewing</span>
    </p>
  </section>
</template>
