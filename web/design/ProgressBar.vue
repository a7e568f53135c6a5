<script setup lang="ts">
defineProps<{ done: number; total: number | null | undefined }>();
</script>

<template>
  <span class="inline-block h-1.5 bg-hairline" role="progressbar" :aria-valuenow="done" aria-valuemin="0" :aria-valuemax="total ?? undefined" aria-label="Progress">
    <span class="block h-full bg-tide" :class="total ? '' : 'animate-pulse'" :style="{ width: total ? `${Math.min(100, (100 * done) / total)}%` : '40%' }"></span>
  </span>
</template>
