<script setup lang="ts">
/** Every numbered change of the catalog; two of them compared; the catalog's own knowledge out as a document and back in. */
import { computed, ref, watch } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import { call, Problem, tableLink } from '../../api/client';
import type { Revision, RevisionComparison } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import { plural, timeText, utcText } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import TagMark from '../../design/TagMark.vue';
import PageFrame from '../../shell/PageFrame.vue';
import { useLive } from '../../stores/live';
import { useAct, useLoad } from '../../stores/load';

const route = useRoute();
const router = useRouter();
const revisions = useLoad(() => call<Revision[]>('/revisions?limit=500'));
void revisions.reload();
useLive((event) => (event.topic === 'catalog' || event.topic === 'columns') && void revisions.reload());
const number = (key: 'from' | 'to') => (typeof route.query[key] === 'string' && /^\d+$/.test(route.query[key]) ? Number(route.query[key]) : undefined);
const from = computed(() => number('from'));
const to = computed(() => number('to'));
const comparison = useLoad(async () => (from.value === undefined || to.value === undefined ? undefined : call<RevisionComparison>(`/revisions/compare?from=${Math.min(from.value, to.value)}&to=${Math.max(from.value, to.value)}`)));
watch([from, to], comparison.reload, { immediate: true });
const choose = (key: 'from' | 'to', value: number) => void router.replace({ query: { ...route.query, [key]: String(value) } });

interface Imported {
  created: string[];
  updated: string[];
  left: { name: string; why: string }[];
}
const imported = ref<Imported>();
const picker = ref<HTMLInputElement>();
const { busy, problem, run } = useAct();
async function takeIn(event: Event): Promise<void> {
  const input = event.target as HTMLInputElement;
  const file = input.files?.[0];
  input.value = '';
  if (!file) return;
  imported.value = undefined;
  await run(async () => {
    let document: unknown;
    try {
      document = JSON.parse(await file.text());
    } catch {
      throw new Problem(400, 'This is no document', `${file.name} is not JSON.`);
    }
    imported.value = await call<Imported>('/catalog-document', { body: document });
  });
}
const tones = { added: 'tide', gone: 'rust', retyped: 'dusk', 'renamed?': 'dusk' } as const;
</script>

<template>
  <PageFrame :steps="[{ label: 'Catalog', to: '/catalog' }, { label: 'Changes' }]">
    <template #title><h1>Changes of the catalog</h1><span class="text-muted">Every change has a number. Choose two to see what tables and columns came and went between them.</span></template>
    <template #actions>
      <a class="rounded border border-rule bg-card px-3 py-1 font-semibold hover:border-ink" href="/api/catalog-document" download="catalog.json">Export the catalog</a>
      <BaseButton :disabled="busy" @click="picker?.click()">Import a document</BaseButton><input ref="picker" type="file" accept="application/json,.json" class="hidden" aria-label="Catalog document" @change="takeIn">
    </template>
    <ProblemBox v-if="problem" class="mb-3" :problem="problem" />
    <section v-if="imported" class="mb-3 border-l-2 border-kelp pl-3" role="status">
      <p><b class="text-kelp">Taken in:</b> {{ plural(imported.created.length, 'table or view', 'tables and views') }} registered, {{ imported.updated.length }} known already and brought up to the document.</p>
      <p v-for="each in imported.left" :key="each.name" class="text-rust">{{ each.name }} was left: {{ each.why }}</p>
    </section>
    <div class="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_minmax(380px,460px)] gap-3.5">
      <section class="min-h-0 overflow-auto border border-rule bg-card" tabindex="0" aria-label="Revisions">
        <ProblemBox v-if="revisions.problem.value" class="m-3" :problem="revisions.problem.value" can-retry @retry="revisions.reload" />
        <LoadingLine v-else-if="!revisions.value.value" what="changes" />
        <table v-else class="w-full text-left">
          <thead class="sticky top-0 border-b border-ink bg-card"><tr><th class="px-3 py-1.5 text-right">No.</th><th>When</th><th>Who</th><th>What</th><th class="text-center">from</th><th class="px-3 text-center">to</th></tr></thead>
          <tbody>
            <tr v-for="each in revisions.value.value" :key="each.number" class="border-b border-hairline" :class="each.number === from || each.number === to ? 'bg-tide-soft' : ''">
              <td class="mono px-3 py-1 text-right">{{ each.number }}</td><td class="whitespace-nowrap" :title="utcText(each.at)">{{ timeText(each.at) }}</td><td>{{ each.who }}</td><td><span class="text-muted">{{ each.action }}</span> {{ each.subject }}</td>
              <td class="text-center"><input type="radio" name="from" class="accent-(--dusk)" :checked="each.number === from" :aria-label="`Compare from ${each.number}`" @change="choose('from', each.number)"></td>
              <td class="text-center"><input type="radio" name="to" class="accent-(--dusk)" :checked="each.number === to" :aria-label="`Compare to ${each.number}`" @change="choose('to', each.number)"></td>
            </tr>
          </tbody>
        </table>
      </section>
      <section class="min-h-0 overflow-auto border border-rule bg-card px-4 py-3" tabindex="0" aria-label="Between the two">
        <ProblemBox v-if="comparison.problem.value" :problem="comparison.problem.value" />
        <p v-else-if="!comparison.value.value" class="text-muted">Choose a change under “from” and one under “to”.</p>
        <template v-for="now in comparison.value.value ? [comparison.value.value] : []" v-else :key="`${now.from} ${now.to}`">
          <h2>From {{ now.from }} to {{ now.to }}</h2>
          <p v-if="now.tables.length + now.columns.length === 0" class="mt-1 text-muted">No table and no column differs.</p>
          <ul class="mt-1">
            <li v-for="each in now.tables" :key="each.name" class="flex items-baseline gap-2 border-t border-hairline py-1"><TagMark :tone="tones[each.change]">{{ each.change }}</TagMark><RouterLink v-if="each.change === 'added'" class="plain-link" :to="tableLink(each.name).replace('/tables/', '/catalog/')">{{ each.name }}</RouterLink><span v-else>{{ each.name }}</span></li>
            <li v-for="each in now.columns" :key="`${each.table} ${each.column}`" class="flex items-baseline gap-2 border-t border-hairline py-1"><TagMark :tone="tones[each.change]">{{ each.change }}</TagMark><span class="min-w-0 break-words"><span class="text-muted">{{ each.table }}.</span><b class="mono">{{ each.column }}</b> <span class="mono text-muted">{{ [each.before, each.after].filter(Boolean).join(' to ') }}</span></span></li>
          </ul>
        </template>
      </section>
    </div>
  </PageFrame>
</template>
