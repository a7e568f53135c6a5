<script setup lang="ts">
/** `heading` is the level of its title: 1 where nothing else names the page. */
withDefaults(defineProps<{ title: string; heading?: 'h1' | 'h2' }>(), { heading: 'h2' });
</script>

<template>
  <section class="max-w-xl px-6 py-8">
    <component :is="heading" class="mb-1.5">{{ title }}</component>
    <p class="text-muted"><slot /></p>
  </section>
</template>
