<script setup lang="ts">
/** An id or path that is copied with one click. */
import { ref } from 'vue';

const props = defineProps<{ text: string }>();
const copied = ref(false);
async function copy(): Promise<void> {
  await navigator.clipboard.writeText(props.text).catch(() => undefined);
  copied.value = true;
  setTimeout(() => (copied.value = false), 1200);
}
</script>

<template>
  <button class="mono max-w-full text-left break-all hover:text-tide" :title="`Copy ${text}`" @click="copy">{{ text }}<span v-if="copied" class="ml-1 font-sans text-tiny text-kelp" role="status">copied</span></button>
</template>
