<script setup lang="ts">
/** Upkeep of an Iceberg table: what each kind would do is shown first; nothing goes without a word. */
import { computed, ref, watch } from 'vue';
import { call } from '../../api/client';
import type { IcebergUpkeep, TableDetail } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import { bytesText, countText, plural, timeText } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import SelectField from '../../design/SelectField.vue';
import TextField from '../../design/TextField.vue';
import { useAct, useLoad } from '../../stores/load';

const props = defineProps<{ base: string; detail: TableDetail }>();
const days = ref('');
const keep = ref('');
const wish = computed(() => ({ ...(days.value.trim() !== '' && Number(days.value) >= 0 ? { olderThanHours: Number(days.value) * 24 } : {}), ...(Number(keep.value) >= 1 ? { keepLast: Math.floor(Number(keep.value)) } : {}) }));
const plan = useLoad(() => call<IcebergUpkeep>(`${props.base}/iceberg/upkeep?${new URLSearchParams(Object.entries(wish.value).map(([name, value]) => [name, String(value)]))}`));
watch([() => props.base, () => props.detail.latestVersion, wish], plan.reload, { immediate: true });
const { busy, problem, run } = useAct();
const done = ref('');
const layout = ref<'size' | 'sort' | 'z-order'>('size');
const by = ref<string[]>([]);
const columns = computed(() => props.detail.columns.map(({ name }) => name));

async function act<T>(body: Record<string, unknown>, words: (answer: T) => string): Promise<void> {
  done.value = '';
  await run(async () => {
    done.value = words(await call<T>(`${props.base}/iceberg/upkeep`, { body }));
  });
  await plan.reload();
}
interface Rewritten { version: number | null; filesBefore: number; filesAfter: number; bytesBefore: number; bytesAfter: number; deleteFilesRemoved: number }
const words = (answer: Rewritten) => (answer.version === null ? 'There was nothing to put together.' : `Version ${answer.version}: ${plural(answer.filesBefore, 'file')} became ${countText(answer.filesAfter)}, ${bytesText(answer.bytesBefore)} became ${bytesText(answer.bytesAfter)}${answer.deleteFilesRemoved > 0 ? `, and ${plural(answer.deleteFilesRemoved, 'delete file')} went` : ''}. No row changed.`);
const rewrite = () => act<Rewritten>({ do: 'rewrite', ...(layout.value === 'size' ? {} : { layout: { kind: layout.value, columns: by.value } }) }, words);
const applyDeletes = () => act<Rewritten>({ do: 'apply-deletes' }, words);
const manifests = () => act<{ before: number; after: number }>({ do: 'rewrite-manifests' }, (answer) => `${plural(answer.before, 'manifest')} became ${countText(answer.after)}.`);
const expire = () => act<{ snapshots: number; files: number; bytes: number; kept: number }>({ do: 'expire', ...wish.value }, (answer) => `${plural(answer.snapshots, 'snapshot')} expired, ${plural(answer.files, 'file')} removed, ${bytesText(answer.bytes)}. ${plural(answer.kept, 'snapshot')} can be read.`);
const clear = () => act<{ files: number; bytes: number }>({ do: 'remove-orphans' }, (answer) => `${plural(answer.files, 'file')} removed, ${bytesText(answer.bytes)}.`);
</script>

<template>
  <section class="min-h-0 flex-1 overflow-auto" tabindex="0" aria-label="Upkeep">
    <ProblemBox v-if="problem" class="mb-2" :problem="problem" />
    <p v-if="done" class="mb-2 border border-kelp bg-card px-3.5 py-1.5" role="status">{{ done }}</p>
    <ProblemBox v-if="plan.problem.value" :problem="plan.problem.value" can-retry @retry="plan.reload" />
    <LoadingLine v-else-if="!plan.value.value" what="what upkeep would do" />
    <div v-else class="grid grid-cols-2 gap-3.5">
      <article class="border border-rule bg-card px-4 py-3">
        <h2>Put small files together</h2>
        <p class="mt-1">
          <template v-if="plan.value.value.rewrite.files > 0"><b>{{ plural(plan.value.value.rewrite.files, 'file') }}</b>, {{ bytesText(plan.value.value.rewrite.bytes) }}, would {{ plan.value.value.rewrite.groups < plan.value.value.rewrite.files ? `become about ${countText(plan.value.value.rewrite.groups)}` : 'be written anew, since the table divides its rows otherwise now, or many of their rows are deleted' }}.</template>
          <template v-else>No files are small enough to be put together.</template>
          Rows stay as they are; the files before stay readable until their snapshots expire.
        </p>
        <div class="mt-2 grid grid-cols-[180px_minmax(0,1fr)] items-start gap-3">
          <SelectField v-model="layout" label="Lay rows out" :choices="[{ value: 'size', words: 'as the table sorts them' }, { value: 'sort', words: 'sorted by columns' }, { value: 'z-order', words: 'near by several columns' }]" />
          <fieldset v-if="layout !== 'size'"><legend class="text-muted">By, in this order</legend><span class="flex flex-wrap gap-x-3"><label v-for="column in columns" :key="column" class="mono flex items-center gap-1.5"><input v-model="by" type="checkbox" :value="column" class="size-3.5 accent-(--tide)">{{ column }}</label></span></fieldset>
        </div>
        <p v-if="layout !== 'size'" class="mt-1 text-muted">Every file is written anew for it, {{ bytesText(detail.bytes) }}.</p>
        <BaseButton class="mt-2.5" look="strong" :disabled="busy || (layout === 'size' ? plan.value.value.rewrite.files === 0 : by.length === 0)" @click="rewrite">{{ busy ? 'Working …' : 'Put together' }}</BaseButton>
      </article>
      <article class="border border-rule bg-card px-4 py-3">
        <h2>Let old snapshots expire</h2>
        <div class="mt-1 grid grid-cols-2 gap-3"><TextField v-model="days" label="Older than days" placeholder="as the table says (5)" /><TextField v-model="keep" label="Keep at least the last" placeholder="as the table says (1)" /></div>
        <p class="mt-2"><b>{{ plural(plan.value.value.expiry.snapshots.length, 'snapshot') }}</b> would go, with {{ plural(plan.value.value.expiry.files, 'file') }}, {{ bytesText(plan.value.value.expiry.bytes) }}, that nothing else needs; {{ countText(plan.value.value.expiry.kept) }} stay. What a branch or tag names is kept<template v-if="plan.value.value.expiry.refs.length > 0">, but for {{ plan.value.value.expiry.refs.join(', ') }}, whose time is over</template>.</p>
        <details v-if="plan.value.value.expiry.snapshots.length > 0" class="mt-1"><summary class="cursor-pointer text-muted">Which snapshots</summary><ul class="mono mt-1 max-h-40 overflow-auto"><li v-for="each in plan.value.value.expiry.snapshots" :key="each.id" class="flex justify-between gap-3"><span>{{ each.id }} {{ each.operation }}</span><span class="shrink-0 text-muted">{{ timeText(each.at) }}</span></li></ul></details>
        <details v-if="plan.value.value.expiry.files > 0" class="mt-1"><summary class="cursor-pointer text-muted">Which files</summary><ul class="mono mt-1 max-h-40 overflow-auto"><li v-for="each in plan.value.value.expiry.paths" :key="each.path" class="flex justify-between gap-3"><span class="break-all">{{ each.path }}</span><span class="shrink-0 text-muted">{{ each.bytes > 0 ? bytesText(each.bytes) : '' }}</span></li></ul></details>
        <BaseButton class="mt-2.5" look="danger" :disabled="busy || plan.value.value.expiry.snapshots.length + plan.value.value.expiry.refs.length === 0" @click="expire">{{ plan.value.value.expiry.snapshots.length === 0 ? 'Nothing expires' : `Expire ${plural(plan.value.value.expiry.snapshots.length, 'snapshot')}` }}</BaseButton>
      </article>
      <article class="border border-rule bg-card px-4 py-3">
        <h2>Deleted rows and manifests</h2>
        <p class="mt-1"><template v-if="plan.value.value.deletes.files > 0"><b>{{ plural(plan.value.value.deletes.files, 'file') }}</b>, {{ bytesText(plan.value.value.deletes.bytes) }}, hold rows that are only marked as deleted; writing them anew makes reading faster.</template><template v-else>No file holds rows that are only marked as deleted.</template></p>
        <p class="mt-1"><template v-if="plan.value.value.manifests.after < plan.value.value.manifests.before"><b>{{ plural(plan.value.value.manifests.before, 'manifest') }}</b> would become {{ countText(plan.value.value.manifests.after) }}; planning then opens fewer.</template><template v-else>{{ plural(plan.value.value.manifests.before, 'manifest') }}; none would be put together.</template></p>
        <p class="mt-2.5 flex gap-2.5"><BaseButton :disabled="busy || plan.value.value.deletes.files === 0" @click="applyDeletes">Write them anew</BaseButton><BaseButton :disabled="busy || plan.value.value.manifests.after >= plan.value.value.manifests.before" @click="manifests">Put manifests together</BaseButton></p>
      </article>
      <article class="border border-rule bg-card px-4 py-3">
        <h2>Files that nothing names</h2>
        <p class="mt-1"><b>{{ plural(plan.value.value.orphans.files, 'file') }}</b>, {{ bytesText(plan.value.value.orphans.bytes) }}, in the table's folder are named by no snapshot and are older than three days<template v-if="plan.value.value.orphans.young > 0">; {{ countText(plan.value.value.orphans.young) }} more are younger and may belong to a commit on its way</template>.</p>
        <details v-if="plan.value.value.orphans.files > 0" class="mt-1"><summary class="cursor-pointer text-muted">Which files</summary><ul class="mono mt-1 max-h-40 overflow-auto"><li v-for="each in plan.value.value.orphans.paths" :key="each.path" class="flex justify-between gap-3"><span class="break-all">{{ each.path }}</span><span class="shrink-0 text-muted">{{ bytesText(each.bytes) }}</span></li></ul></details>
        <BaseButton class="mt-2.5" look="danger" :disabled="busy || plan.value.value.orphans.files === 0" @click="clear">{{ plan.value.value.orphans.files === 0 ? 'Nothing to remove' : `Remove ${plural(plan.value.value.orphans.files, 'file')}` }}</BaseButton>
      </article>
    </div>
  </section>
</template>
