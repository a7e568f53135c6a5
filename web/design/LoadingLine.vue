<script setup lang="ts">
/** Shows itself only when a wait is long enough to be noticed. */
import { onMounted, ref } from 'vue';

defineProps<{ what: string }>();
const shown = ref(false);
onMounted(() => setTimeout(() => (shown.value = true), 200));
</script>

<template>
  <p role="status" class="px-4 py-3 text-muted" :class="shown ? '' : 'invisible'">Loading {{ what }} …</p>
</template>
