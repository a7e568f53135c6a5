<script setup lang="ts">
/** `strong` for the one thing a page is for; `past` acts on the past; `danger` removes. */
withDefaults(defineProps<{ look?: 'plain' | 'strong' | 'past' | 'danger'; disabled?: boolean; type?: 'button' | 'submit' }>(), { look: 'plain', type: 'button' });
const looks = {
  plain: 'border-rule bg-card text-ink hover:border-ink',
  strong: 'border-tide bg-tide text-on-strong hover:opacity-90',
  past: 'border-brass bg-brass text-on-strong hover:opacity-90',
  danger: 'border-rust bg-card text-rust hover:bg-rust-soft',
};
</script>

<template>
  <button :type="type" :disabled="disabled" class="rounded border px-3 py-1 font-semibold whitespace-nowrap disabled:opacity-50" :class="looks[look]"><slot /></button>
</template>
