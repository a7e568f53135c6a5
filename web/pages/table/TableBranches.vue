<script setup lang="ts">
/** Branches and tags of an Iceberg table: what each names, how long it is kept, and new ones at the version that is viewed. */
import { computed, ref } from 'vue';
import { call } from '../../api/client';
import type { IcebergFacts, IcebergRef, TableDetail } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import CopyText from '../../design/CopyText.vue';
import { plural, timeText, utcText } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import SelectField from '../../design/SelectField.vue';
import TextField from '../../design/TextField.vue';
import { useLive } from '../../stores/live';
import { useAct, useLoad } from '../../stores/load';
import { queryLink } from '../query/link';

const props = defineProps<{ base: string; detail: TableDetail; full: string }>();
const emit = defineEmits<{ view: [version: number]; changed: [] }>();
const facts = useLoad(() => call<IcebergFacts>(`${props.base}/iceberg`));
void facts.reload();
useLive((event) => event.topic === 'table' && void facts.reload());
const refs = computed(() => [...(facts.value.value?.refs ?? [])].sort((a, b) => Number(b.name === 'main') - Number(a.name === 'main') || (a.name < b.name ? -1 : 1)));
const name = ref('');
const type = ref<'branch' | 'tag'>('tag');
const days = ref('');
const { busy, problem, run } = useAct();
const dropping = ref('');
const done = ref('');
const DAY = 86_400_000;

async function make(): Promise<void> {
  done.value = '';
  const age = Number(days.value) > 0 ? { maxRefAgeMs: Math.round(Number(days.value) * DAY) } : {};
  if (!(await run(() => call(`${props.base}/iceberg/refs`, { method: 'PUT', body: { name: name.value.trim(), type: type.value, ...(props.detail.snapshotId ? { snapshotId: props.detail.snapshotId } : {}), ...age } })))) return;
  done.value = `${type.value === 'tag' ? 'Tag' : 'Branch'} ${name.value.trim()} is at version ${props.detail.version}.`;
  name.value = '';
  await facts.reload();
  emit('changed');
}
async function act(body: Record<string, unknown>, words: string): Promise<void> {
  done.value = '';
  if (!(await run(() => call(`${props.base}/iceberg/refs`, { body })))) return;
  dropping.value = '';
  done.value = words;
  await facts.reload();
  emit('changed');
}
const kept = (each: IcebergRef) => [
  each.maxRefAgeMs === null ? '' : `for ${plural(Math.round(each.maxRefAgeMs / DAY), 'day')}`, each.minSnapshotsToKeep === null ? '' : `its last ${plural(each.minSnapshotsToKeep, 'snapshot')}`, each.maxSnapshotAgeMs === null ? '' : `snapshots of ${plural(Math.round(each.maxSnapshotAgeMs / DAY), 'day')}`,
].filter(Boolean).join(', ') || (each.name === 'main' ? 'always' : 'until it is dropped');
const read = (each: IcebergRef) => queryLink(`SELECT *\nFROM ${props.full} FOR SYSTEM_VERSION AS OF '${each.name.replaceAll("'", "''")}'\nLIMIT 100`);
</script>

<template>
  <ProblemBox v-if="facts.problem.value" :problem="facts.problem.value" can-retry @retry="facts.reload" />
  <LoadingLine v-else-if="!facts.value.value" what="branches and tags" />
  <div v-else class="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_300px] gap-3.5">
    <section class="min-h-0 overflow-auto border border-rule bg-card" tabindex="0" aria-label="Branches and tags">
      <ProblemBox v-if="problem" class="m-2" :problem="problem" />
      <p v-if="done" class="border-b border-kelp px-3 py-1.5" role="status">{{ done }}</p>
      <table class="w-full text-left">
        <thead class="sticky top-0 border-b border-ink bg-card"><tr><th class="px-3 py-1.5">Name</th><th>Kind</th><th class="pr-2">Version</th><th>When</th><th>Snapshot</th><th>Kept</th><th><span class="sr-only">What to do with it</span></th></tr></thead>
        <tbody>
          <template v-for="each in refs" :key="each.name">
            <tr class="border-b border-hairline align-top">
              <td class="mono px-3 py-1.5 font-semibold">{{ each.name }}</td>
              <td class="py-1.5">{{ each.type }}<span v-if="!each.isOnMain" class="text-muted">, apart from main</span></td>
              <td class="py-1.5"><button v-if="each.version !== null && each.isOnMain" class="mono plain-link" @click="$emit('view', each.version)">{{ each.version }}</button><span v-else class="mono">{{ each.version }}</span></td>
              <td class="py-1.5 whitespace-nowrap" :title="each.at === null ? '' : utcText(each.at)">{{ each.at === null ? '' : timeText(each.at) }}</td>
              <td class="max-w-[170px] py-1.5"><CopyText :text="each.snapshotId" /></td>
              <td class="py-1.5">{{ kept(each) }}</td>
              <td class="py-1.5 pr-3 text-right whitespace-nowrap">
                <RouterLink class="plain-link" :to="read(each)">Query</RouterLink>
                <button v-if="each.type === 'branch' && each.name !== 'main' && !each.isOnMain" class="plain-link ml-3" :disabled="busy" @click="act({ forward: { branch: 'main', to: each.name } }, `main is now where ${each.name} is.`)">Move main here</button>
                <button v-if="each.name !== 'main'" class="plain-link ml-3" @click="dropping = each.name">Drop…</button>
              </td>
            </tr>
            <tr v-if="dropping === each.name" class="border-b border-rule bg-paper">
              <td colspan="7" class="px-3 py-2">
                <p class="flex flex-wrap items-center gap-2.5">The {{ each.type }} <b class="mono">{{ each.name }}</b> goes; its snapshots stay until they expire<template v-if="!each.isOnMain">, which nothing but their age then prevents</template>.
                  <BaseButton look="danger" :disabled="busy" @click="act({ drop: each.name }, `The ${each.type} ${each.name} was dropped.`)">Drop it</BaseButton><BaseButton @click="dropping = ''">Leave it</BaseButton>
                </p>
              </td>
            </tr>
          </template>
          <tr v-if="refs.length === 0"><td colspan="7" class="px-3 py-4 text-muted">The table has no snapshot yet, so there is nothing to name.</td></tr>
        </tbody>
      </table>
    </section>
    <aside class="min-h-0 overflow-auto border border-rule bg-card px-4 py-3" tabindex="0" aria-label="New branch or tag">
      <h2>Name version {{ detail.version }}</h2>
      <p class="mt-1 text-muted">A tag keeps the version readable. A branch can be written to beside the table, and main moved on to it later.</p>
      <form class="mt-2 grid gap-2" @submit.prevent="make">
        <SelectField v-model="type" label="As a" :choices="[{ value: 'tag', words: 'tag' }, { value: 'branch', words: 'branch' }]" />
        <TextField v-model="name" label="Name" mono required />
        <TextField v-model="days" label="Days to keep it" placeholder="until it is dropped" />
        <p><BaseButton type="submit" look="strong" :disabled="busy || name.trim() === '' || refs.length === 0">Name it</BaseButton></p>
      </form>
      <h2 class="mt-5">In SQL</h2>
      <p class="mt-1 text-muted">Read a branch or tag, and write to a branch:</p>
      <p class="mono mt-1 break-words">SELECT * FROM {{ full }} FOR SYSTEM_VERSION AS OF 'name'</p>
      <p class="mono mt-1 break-words">INSERT INTO {{ full }} BRANCH 'name' SELECT …</p>
    </aside>
  </div>
</template>
