<script setup lang="ts">
import EmptyState from '../design/EmptyState.vue';
</script>

<template>
  <EmptyState heading="h1" title="There is nothing at this address">
    The link may be old, or mistyped. <RouterLink class="plain-link" to="/catalog">Open the catalog</RouterLink> or press <kbd>/</kbd> to find a table.
  </EmptyState>
</template>
