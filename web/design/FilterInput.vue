<script setup lang="ts">
const model = defineModel<string>({ required: true });
defineProps<{ label: string }>();
</script>

<template>
  <input v-model="model" type="search" class="w-24 border-b border-rule bg-transparent py-0.5 outline-none placeholder:text-muted focus:border-ink" placeholder="filter" :aria-label="label" autocomplete="off" />
</template>
