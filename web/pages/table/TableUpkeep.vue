<script setup lang="ts">
/** Upkeep: what each kind would do is shown first; nothing goes without a word. */
import { computed, ref, watch } from 'vue';
import { call } from '../../api/client';
import type { DeltaUpkeep } from '../../api/delta-types';
import type { TableDetail } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import CheckField from '../../design/CheckField.vue';
import { bytesText, countText, plural } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import SelectField from '../../design/SelectField.vue';
import TextField from '../../design/TextField.vue';
import LogCheck from './LogCheck.vue';
import { useAct, useLoad } from '../../stores/load';

const props = defineProps<{ base: string; detail: TableDetail }>();
const days = ref('');
const retentionHours = computed(() => (days.value.trim() === '' || Number.isNaN(Number(days.value)) ? undefined : Number(days.value) * 24));
const plan = useLoad(() => call<DeltaUpkeep>(`${props.base}/delta/upkeep${retentionHours.value === undefined ? '' : `?retentionHours=${retentionHours.value}`}`));
watch([() => props.base, () => props.detail.latestVersion, retentionHours], plan.reload, { immediate: true });
const { busy, problem, run } = useAct();
const done = ref('');
const layout = ref<'size' | 'sort' | 'z-order'>('size');
const by = ref<string[]>([]);
const agreed = ref(false);
const columns = computed(() => props.detail.columns.filter((column) => column.role !== 'partition').map(({ name }) => name));

async function act<T>(body: Record<string, unknown>, words: (answer: T) => string): Promise<void> {
  done.value = '';
  await run(async () => {
    done.value = words(await call<T>(`${props.base}/delta/upkeep`, { body }));
  });
  await plan.reload();
}
const compact = () => act<{ version: number | null; filesBefore: number; filesAfter: number; bytesBefore: number; bytesAfter: number }>(
  { do: 'compact', ...(layout.value === 'size' ? {} : { layout: { kind: layout.value, columns: by.value } }) },
  (answer) => (answer.version === null ? 'No files are small enough to be put together.' : `Version ${answer.version}: ${plural(answer.filesBefore, 'file')} became ${countText(answer.filesAfter)}, ${bytesText(answer.bytesBefore)} became ${bytesText(answer.bytesAfter)}. No row changed.`),
);
const clear = () => act<{ files: number; bytes: number; oldestReadable: number }>(
  { do: 'clear-files', ...(retentionHours.value === undefined ? {} : { retentionHours: retentionHours.value }), breakVersions: agreed.value },
  (answer) => `${plural(answer.files, 'file')} removed, ${bytesText(answer.bytes)}. Versions from ${answer.oldestReadable} on can be read.`,
);
const clearLog = () => act<{ files: number; oldestVersion: number }>({ do: 'clear-log' }, (answer) => `${plural(answer.files, 'log file')} removed. The log begins at version ${answer.oldestVersion}.`);
const checkpoint = () => act<{ version: number }>({ do: 'checkpoint' }, (answer) => `The log is summed up to version ${answer.version}.`);
const repaired = (words: string) => {
  done.value = words;
  void plan.reload();
};
</script>

<template>
  <section class="min-h-0 flex-1 overflow-auto" tabindex="0" aria-label="Upkeep">
    <ProblemBox v-if="problem" class="mb-2" :problem="problem" />
    <p v-if="done" class="mb-2 border border-kelp bg-card px-3.5 py-1.5" role="status">{{ done }}</p>
    <ProblemBox v-if="plan.problem.value" class="mb-2" :problem="plan.problem.value" can-retry @retry="plan.reload" />
    <LoadingLine v-else-if="!plan.value.value" what="what upkeep would do" />
    <div class="grid grid-cols-2 gap-3.5">
      <template v-if="plan.value.value && !plan.problem.value">
        <article class="border border-rule bg-card px-4 py-3">
          <h2>Put small files together</h2>
          <p class="mt-1">
            <template v-if="plan.value.value.compaction.files > 0"><b>{{ plural(plan.value.value.compaction.files, 'file') }}</b>, {{ bytesText(plan.value.value.compaction.bytes) }}, would become about {{ countText(plan.value.value.compaction.groups) }}.</template>
            <template v-else>No files are small enough to be put together.</template>
            Rows stay as they are; a new version is made, and the files before it stay readable until they are cleared.
          </p>
          <div class="mt-2 grid grid-cols-[180px_minmax(0,1fr)] items-start gap-3">
            <SelectField v-model="layout" label="Lay rows out" :choices="[{ value: 'size', words: 'as they come' }, { value: 'sort', words: 'sorted by columns' }, { value: 'z-order', words: 'near by several columns' }]" />
            <fieldset v-if="layout !== 'size'"><legend class="text-muted">By, in this order</legend><span class="flex flex-wrap gap-x-3"><label v-for="column in columns" :key="column" class="mono flex items-center gap-1.5"><input v-model="by" type="checkbox" :value="column" class="size-3.5 accent-(--tide)">{{ column }}</label></span></fieldset>
          </div>
          <p v-if="layout !== 'size'" class="mt-1 text-muted">Every file is written anew for it, {{ bytesText(detail.bytes) }}.</p>
          <BaseButton class="mt-2.5" look="strong" :disabled="busy || (layout === 'size' ? plan.value.value.compaction.files === 0 : by.length === 0)" @click="compact">{{ busy ? 'Working …' : 'Put together' }}</BaseButton>
        </article>
        <article class="border border-rule bg-card px-4 py-3">
          <h2>Clear files that no kept version needs</h2>
          <div class="mt-1 w-56"><TextField v-model="days" label="Keep versions of the last days" placeholder="as the table says (7)" /></div>
          <p class="mt-2"><b>{{ plural(plan.value.value.clearing.files, 'file') }}</b>, {{ bytesText(plan.value.value.clearing.bytes) }}, would go. Versions from <b>{{ plan.value.value.clearing.oldestReadable }}</b> on stay readable. Copies of this table that share its files cannot be seen from here.</p>
          <p v-if="plan.value.value.clearing.breaks" class="mt-1 text-rust">Versions {{ plan.value.value.clearing.breaks.from }} to {{ plan.value.value.clearing.breaks.to }} can be read now and could not be any more.</p>
          <details v-if="plan.value.value.clearing.files > 0" class="mt-1"><summary class="cursor-pointer text-muted">Which files</summary><ul class="mono mt-1 max-h-40 overflow-auto"><li v-for="each in plan.value.value.clearing.paths" :key="each.path" class="flex justify-between gap-3"><span class="break-all">{{ each.path }}</span><span class="shrink-0 text-muted">{{ bytesText(each.bytes) }}</span></li></ul></details>
          <CheckField v-if="plan.value.value.clearing.breaks" v-model="agreed" class="mt-2" :label="`Versions ${plan.value.value.clearing.breaks.from} to ${plan.value.value.clearing.breaks.to} may go for good`" />
          <BaseButton class="mt-2.5" look="danger" :disabled="busy || plan.value.value.clearing.files === 0 || (plan.value.value.clearing.breaks !== undefined && !agreed)" @click="clear">{{ plan.value.value.clearing.files === 0 ? 'Nothing to remove' : `Remove ${plural(plan.value.value.clearing.files, 'file')}` }}</BaseButton>
        </article>
        <article class="border border-rule bg-card px-4 py-3">
          <h2>The log</h2>
          <p class="mt-1">{{ plural(plan.value.value.log.commits, 'commit') }}; <template v-if="plan.value.value.log.lastCheckpoint >= 0">summed up to version {{ plan.value.value.log.lastCheckpoint }}</template><template v-else>not summed up yet</template>.</p>
          <p class="mt-1"><template v-if="plan.value.value.log.files > 0"><b>{{ plural(plan.value.value.log.files, 'log file') }}</b> are older than the table keeps them; without them the log begins at version {{ plan.value.value.log.oldestVersion }}.</template><template v-else>No entry is older than the table keeps them.</template></p>
          <p class="mt-2.5 flex gap-2.5"><BaseButton :disabled="busy" @click="checkpoint">Sum up now</BaseButton><BaseButton look="danger" :disabled="busy || plan.value.value.log.files === 0" @click="clearLog">{{ plan.value.value.log.files === 0 ? 'Nothing to remove' : `Remove ${plural(plan.value.value.log.files, 'log file')}` }}</BaseButton></p>
        </article>
      </template>
      <LogCheck :base="base" @repaired="repaired" />
    </div>
  </section>
</template>
