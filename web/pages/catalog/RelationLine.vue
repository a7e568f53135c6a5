<script setup lang="ts">
import { ref, watchEffect } from 'vue';
import type { RelationName, TableDetail } from '../../api/types';
import { countText, formatName } from '../../design/format';
import { useCatalog } from '../../stores/catalog';

const props = defineProps<{ relation: RelationName; withRows: boolean }>();
const catalog = useCatalog();
const detail = ref<TableDetail>();
const failed = ref(false);
watchEffect(() => {
  if (!props.withRows || props.relation.kind === 'view') return;
  catalog.detail(props.relation.namespace, props.relation.name).then((found) => (detail.value = found), () => (failed.value = true));
});
</script>

<template>
  <b class="block truncate font-semibold">{{ relation.name }}</b>
  <span class="block truncate text-small text-muted">{{ formatName(relation.format) }}<template v-if="detail?.rows != null">, {{ countText(detail.rows) }} rows</template><span v-else-if="failed" class="text-rust">, cannot be read</span></span>
</template>
