<script setup lang="ts">
withDefaults(defineProps<{ tone?: 'plain' | 'tide' | 'dusk' | 'rust' | 'kelp' | 'brass' }>(), { tone: 'plain' });
const tones = {
  plain: 'border-rule text-muted',
  tide: 'border-tide/40 bg-tide-soft text-tide',
  dusk: 'border-dusk/40 bg-dusk-soft text-dusk',
  rust: 'border-rust/40 bg-rust-soft text-rust',
  kelp: 'border-kelp/40 bg-kelp-soft text-kelp',
  brass: 'border-brass bg-brass-soft text-brass',
};
</script>

<template>
  <span class="inline-block border px-1.5 text-tiny leading-[17px] font-medium whitespace-nowrap" :class="tones[tone]"><slot /></span>
</template>
