<script setup lang="ts">
const model = defineModel<boolean>({ required: true });
defineProps<{ label: string }>();
</script>

<template>
  <label class="flex items-center gap-1.5"><input v-model="model" type="checkbox" class="size-3.5 accent-(--tide)">{{ label }}</label>
</template>
