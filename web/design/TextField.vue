<script setup lang="ts">
/** A line of text with its name above it. `mono` for what a machine reads. */
const model = defineModel<string>({ required: true });
withDefaults(defineProps<{ label: string; placeholder?: string; required?: boolean; mono?: boolean; type?: 'text' | 'password'; hint?: string }>(), { type: 'text', placeholder: '', hint: '' });
</script>

<template>
  <label class="grid min-w-0 content-start gap-0.5">
    <span class="text-muted">{{ label }}</span>
    <input v-model="model" :type="type" :required="required" :placeholder="placeholder" class="h-[29px] w-full min-w-0 border border-rule bg-card px-2 placeholder:text-muted" :class="mono ? 'mono' : ''" autocomplete="off" spellcheck="false">
    <span v-if="hint" class="text-tiny text-muted">{{ hint }}</span>
  </label>
</template>
