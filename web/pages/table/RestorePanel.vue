<script setup lang="ts">
/** Restoring beside what it is about: says what will come of it before it is done. */
import { call } from '../../api/client';
import type { TableDetail } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import { countText } from '../../design/format';
import ProblemBox from '../../design/ProblemBox.vue';
import { useAct } from '../../stores/load';

const props = defineProps<{ detail: TableDetail }>();
const emit = defineEmits<{ close: []; restored: [] }>();
const { busy, problem, run } = useAct();
async function restore(): Promise<void> {
  const { namespace, name, version } = props.detail;
  if (await run(() => call(`/catalog/${encodeURIComponent(namespace)}/${encodeURIComponent(name)}/restore`, { body: { version: String(version) } }))) emit('restored');
}
</script>

<template>
  <section class="mb-2 border border-brass bg-card px-4 py-2.5" aria-label="Restore" @keydown.esc="emit('close')">
    <p v-if="detail.format === 'iceberg'">
      The table will read as version {{ detail.version }} did<template v-if="detail.rows !== null">: {{ countText(detail.rows) }} rows</template>. Later versions leave the timeline; they can be read by their snapshot id until they expire. No file is removed.
    </p>
    <p v-else>
      A new version {{ detail.latestVersion + 1 }} will be committed that reads as version {{ detail.version }} does<template v-if="detail.rows !== null">: {{ countText(detail.rows) }} rows</template>.
      No file is removed, and versions up to {{ detail.latestVersion }} stay readable.
    </p>
    <ProblemBox v-if="problem" class="my-2" :problem="problem" />
    <p class="mt-2 flex gap-2.5"><BaseButton look="past" :disabled="busy" @click="restore">Restore version {{ detail.version }}</BaseButton><BaseButton @click="emit('close')">Leave it</BaseButton></p>
  </section>
</template>
