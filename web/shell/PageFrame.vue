<script setup lang="ts">
/** A page's path, title line and body. At an old version the whole page is tinted and edged in brass. */
import PathBar, { type PathStep } from './PathBar.vue';

defineProps<{ steps: PathStep[]; past?: boolean }>();
</script>

<template>
  <div class="flex h-full min-h-0 flex-col border-l-brass px-[18px] pb-3" :class="past ? 'border-l-8 bg-past-page pl-[10px]' : ''" :data-past="past || undefined">
    <PathBar :steps="steps" />
    <slot name="band"></slot>
    <header v-if="$slots.title" class="flex min-h-[34px] flex-wrap items-center gap-x-4 gap-y-1 pb-2">
      <slot name="title"></slot>
      <div class="ml-auto flex gap-2.5"><slot name="actions"></slot></div>
    </header>
    <slot></slot>
  </div>
</template>
