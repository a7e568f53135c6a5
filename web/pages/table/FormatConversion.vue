<script setup lang="ts">
/** A Delta table becomes an Iceberg table, or the other way, over the same data files; what would not come along is told first. */
import { computed, ref } from 'vue';
import { call } from '../../api/client';
import type { TableConversion } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import { bytesText, countText, formatName, plural } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import { useAct, useLoad } from '../../stores/load';

const props = defineProps<{ base: string; to: 'delta' | 'iceberg' }>();
const emit = defineEmits<{ converted: [] }>();
const looking = ref(false);
const plan = useLoad(() => call<TableConversion>(`${props.base}/conversion`));
const { busy, problem, run } = useAct();
const format = computed(() => formatName(props.to));
const withArticle = computed(() => `${props.to === 'iceberg' ? 'an' : 'a'} ${format.value} table`);

function look(): void {
  looking.value = true;
  void plan.reload();
}
async function convert(): Promise<void> {
  if (await run(() => call(`${props.base}/conversion`, { body: {} }))) emit('converted');
}
</script>

<template>
  <section :aria-label="`As ${withArticle}`">
    <h2 class="mt-5">As {{ withArticle }}</h2>
    <p v-if="!looking" class="mt-1.5"><BaseButton @click="look">See what it would take…</BaseButton></p>
    <ProblemBox v-else-if="plan.problem.value" class="mt-2" :problem="plan.problem.value" can-retry @retry="plan.reload" />
    <LoadingLine v-else-if="!plan.value.value" what="what would come along" />
    <div v-else class="mt-1.5 border border-rule bg-paper px-3 py-2">
      <p>{{ plural(plan.value.value.plan.files, 'data file') }} with {{ countText(plan.value.value.plan.rows) }} rows, {{ bytesText(plan.value.value.plan.bytes) }}, stay where they are; {{ format }} metadata is written beside them, and the name then means the {{ format }} table.</p>
      <template v-if="plan.value.value.plan.obstacles.length > 0">
        <p class="mt-2 font-semibold text-rust">It cannot be done:</p>
        <dl><template v-for="each in plan.value.value.plan.obstacles" :key="each.what"><dt class="mt-1">{{ each.what }}</dt><dd class="text-muted">{{ each.why }}.</dd></template></dl>
      </template>
      <template v-if="plan.value.value.plan.leftBehind.length > 0">
        <p class="mt-2 font-semibold">Does not come along:</p>
        <dl><template v-for="each in plan.value.value.plan.leftBehind" :key="each.what"><dt class="mt-1">{{ each.what }}</dt><dd class="text-muted">{{ each.why }}.</dd></template></dl>
      </template>
      <p class="mt-2.5 flex flex-wrap gap-2"><BaseButton look="strong" :disabled="busy || plan.value.value.plan.obstacles.length > 0" @click="convert">{{ busy ? 'Working …' : `Make it ${withArticle}` }}</BaseButton><BaseButton @click="looking = false">Leave it</BaseButton></p>
      <ProblemBox v-if="problem" class="mt-2" :problem="problem" />
    </div>
  </section>
</template>
