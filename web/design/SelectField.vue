<script setup lang="ts" generic="T extends string">
/** One of a few, with its name above it. */
const model = defineModel<T>({ required: true });
defineProps<{ label: string; choices: readonly { value: T; words: string }[] }>();
</script>

<template>
  <label class="grid min-w-0 content-start gap-0.5">
    <span class="text-muted">{{ label }}</span>
    <select v-model="model" class="h-[29px] w-full min-w-0 border border-rule bg-card px-1.5"><option v-for="choice in choices" :key="choice.value" :value="choice.value">{{ choice.words }}</option></select>
  </label>
</template>
