<script setup lang="ts">
/** Managed tables that were dropped, and can come back for a while. */
import { ref } from 'vue';
import { call } from '../../api/client';
import type { DroppedTable } from '../../api/define-types';
import { agoText, bytesText, plural, timeText, utcText } from '../../design/format';
import ProblemBox from '../../design/ProblemBox.vue';
import { useLive } from '../../stores/live';
import { useAct, useLoad } from '../../stores/load';

const dropped = useLoad(() => call<DroppedTable[]>('/dropped'));
void dropped.reload();
useLive((event) => event.topic === 'catalog' && void dropped.reload());
const { busy, problem, run } = useAct();
const back = ref('');
async function bringBack(table: DroppedTable): Promise<void> {
  back.value = '';
  if (await run(() => call(`/dropped/${encodeURIComponent(table.namespace)}/${encodeURIComponent(table.name)}`, { body: {} }))) back.value = `${table.namespace}.${table.name}`;
  await dropped.reload();
}
</script>

<template>
  <section v-if="back || (dropped.value.value ?? []).length > 0" class="max-w-3xl" aria-label="Dropped tables">
    <h2>Dropped tables</h2>
    <p class="mt-1 text-muted">Their files wait in the trash of their storage, and go when their time is over.</p>
    <ProblemBox v-if="problem" class="mt-2" :problem="problem" />
    <p v-if="back" class="mt-2 border border-kelp px-3.5 py-1.5" role="status">{{ back }} is back, with all its versions.</p>
    <ul class="mt-2">
      <li v-for="each in dropped.value.value ?? []" :key="each.id" class="flex items-baseline gap-3 border-t border-hairline py-1.5">
        <b>{{ each.namespace }}.{{ each.name }}</b>
        <span class="text-muted">{{ plural(each.files, 'file') }}, {{ bytesText(each.bytes) }}; dropped <span :title="utcText(each.droppedAt)">{{ agoText(each.droppedAt) }}</span> by {{ each.who }}, kept until {{ timeText(each.keepUntil) }}</span>
        <button class="plain-link ml-auto shrink-0" :disabled="busy" :aria-label="`Bring ${each.namespace}.${each.name} back`" @click="bringBack(each)">Bring it back</button>
      </li>
    </ul>
  </section>
</template>
