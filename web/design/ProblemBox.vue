<script setup lang="ts">
import type { Problem } from '../api/client';
import BaseButton from './BaseButton.vue';

defineProps<{ problem: Problem; canRetry?: boolean }>();
defineEmits<{ retry: [] }>();
</script>

<template>
  <section role="alert" class="border border-rust bg-rust-soft px-4 py-3 text-ink">
    <p class="font-semibold text-rust">{{ problem.title }}</p>
    <p class="break-words">{{ problem.message }}</p>
    <p v-if="problem.more.hint" class="text-muted">{{ problem.more.hint }}</p>
    <BaseButton v-if="canRetry" class="mt-2" @click="$emit('retry')">Try again</BaseButton>
  </section>
</template>
