<script setup lang="ts">
/** The first lines with the columns laid over them; a click between two characters cuts there, or joins what was cut. */
import { computed } from 'vue';
import type { RulerColumn } from '../../../core/folder/column-ruler';
import { cutAt } from './column-cuts';

const props = defineProps<{ lines: readonly string[]; columns: readonly RulerColumn[] }>();
const emit = defineEmits<{ change: [columns: RulerColumn[]] }>();
const SHOWN = 8;
const shown = computed(() => props.lines.slice(0, SHOWN));
const width = computed(() => Math.max(0, ...shown.value.map((line) => line.length), ...props.columns.map((column) => column.to)));
/** Of every character: its column's place in the row of columns, or -1. */
const owner = computed(() => Array.from({ length: width.value }, (_, at) => props.columns.findIndex((column) => at + 1 >= column.from && at + 1 <= column.to)));
const shade = (at: number) => (owner.value[at]! < 0 ? 'text-muted line-through' : owner.value[at]! % 2 === 0 ? 'bg-tide-soft' : 'bg-dusk-soft');
</script>

<template>
  <div class="overflow-x-auto border border-hairline bg-paper px-2 py-1">
    <div class="mono leading-[17px] whitespace-pre" role="group" aria-label="Cut the lines into columns">
      <div class="flex text-muted"><button v-for="at in width" :key="at" type="button" class="w-[7.2px] border-l text-[8px] hover:border-ink" :class="at > 1 && owner[at - 1] !== owner[at - 2] ? 'border-ink' : 'border-transparent'" :aria-label="`Cut before character ${at}`" @click="emit('change', cutAt(columns, at, width))">{{ at % 10 === 0 ? at / 10 : '·' }}</button></div>
      <div v-for="(line, row) in shown" :key="row" class="flex"><span v-for="at in width" :key="at" class="w-[7.2px]" :class="shade(at - 1)">{{ line[at - 1] ?? ' ' }}</span></div>
    </div>
    <p class="mt-1 text-tiny text-muted">Click above a character to cut before it, or to join what was cut there.</p>
  </div>
</template>
