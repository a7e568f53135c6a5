<script setup lang="ts">
defineProps<{ title: string }>();
</script>

<template>
  <section class="max-w-xl px-6 py-8">
    <h2 class="mb-1.5">{{ title }}</h2>
    <p class="text-muted"><slot /></p>
  </section>
</template>
