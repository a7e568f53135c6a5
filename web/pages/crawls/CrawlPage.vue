<script setup lang="ts">
/** One crawl: its rules, its runs, and the drift that it saw. */
import { computed, ref, watch } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import { call, tableLink } from '../../api/client';
import type { Crawl, CrawlOutcome, DriftEntry } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import { countText, timeText, utcText } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import TagMark from '../../design/TagMark.vue';
import PageFrame from '../../shell/PageFrame.vue';
import { useLive } from '../../stores/live';
import { useCrawlStart } from '../../stores/crawls';
import { useAct, useLoad } from '../../stores/load';
import CrawlSentence from './CrawlSentence.vue';
import { sentenceOf } from './crawl-words';

const route = useRoute();
const router = useRouter();
const id = computed(() => Number(route.params.crawl));
const crawl = useLoad(() => call<Crawl & { runs: CrawlOutcome[] }>(`/crawls/${id.value}`));
const storages = useLoad(() => call<{ name: string; kind: string }[]>('/storages'));
const drift = useLoad(() => call<DriftEntry[]>('/drift'));
watch(id, crawl.reload, { immediate: true });
void storages.reload();
void drift.reload();
useLive((event) => event.topic === 'crawl' && void Promise.all([crawl.reload(), drift.reload()]), () => void crawl.reload());
const editing = ref(false);
const { busy: starting, problem: startProblem, again } = useCrawlStart();
const { problem, run } = useAct();
const runs = computed(() => new Set(crawl.value.value?.runs.map((each) => each.id)));
const ownDrift = computed(() => (drift.value.value ?? []).filter((each) => runs.value.has(each.runId)));
const seconds = (each: CrawlOutcome) => (each.finishedAt ? `${((new Date(each.finishedAt).getTime() - new Date(each.startedAt).getTime()) / 1000).toFixed(1)} s` : '');
const CAUSES = { asked: '', schedule: 'by schedule', restart: 'after a restart' };
async function forget(): Promise<void> {
  if (await run(() => call(`/crawls/${id.value}`, { method: 'DELETE' }))) await router.push('/crawls');
}
</script>

<template>
  <PageFrame :steps="[{ label: 'Crawls', to: '/crawls' }, { label: crawl.value.value?.name ?? '…' }]">
    <template v-if="crawl.value.value" #title><h1>{{ crawl.value.value.name }}</h1></template>
    <template v-if="crawl.value.value" #actions><BaseButton @click="forget">Forget this crawl</BaseButton><BaseButton :aria-expanded="editing" @click="editing = !editing">Change its rules</BaseButton><BaseButton look="strong" :disabled="starting" @click="again(id)">Crawl now</BaseButton></template>
    <ProblemBox v-if="crawl.problem.value" :problem="crawl.problem.value" can-retry @retry="crawl.reload" />
    <LoadingLine v-else-if="!crawl.value.value || !storages.value.value" what="the crawl" />
    <template v-else>
      <CrawlSentence v-if="editing" :key="id" class="mb-3" :crawl="crawl.value.value" :storages="storages.value.value" @close="editing = false" @saved="editing = false; crawl.reload()" />
      <p v-else class="mb-3 border-l-2 border-dusk pl-3">{{ sentenceOf(crawl.value.value.definition, crawl.value.value.scheduleWords) }}.</p>
      <ProblemBox v-if="startProblem ?? problem" class="mb-3" :problem="(startProblem ?? problem)!" />
      <div class="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_minmax(380px,470px)] gap-3.5">
        <section class="min-h-0 overflow-auto border border-rule bg-card" aria-label="Runs">
          <table class="w-full text-left">
            <thead class="sticky top-0 border-b border-ink bg-card"><tr><th class="px-4 py-1.5">Run</th><th>By</th><th class="pr-4 text-right">Took</th><th class="pr-4 text-right">Files</th><th class="pr-4 text-right">Opened</th><th class="pr-4 text-right">Found</th><th class="pr-4 text-right">Added</th><th>Outcome</th></tr></thead>
            <tbody>
              <tr v-for="each in crawl.value.value.runs" :key="each.id" class="border-b border-hairline align-top">
                <td class="px-4 py-1.5" :title="utcText(each.startedAt)"><RouterLink class="plain-link" :to="`/crawls/${each.id}`">{{ timeText(each.startedAt) }}</RouterLink></td>
                <td class="py-1.5">{{ each.who }} <span class="text-muted">{{ CAUSES[each.cause] }}</span></td>
                <td class="mono py-1.5 pr-4 text-right">{{ seconds(each) }}</td><td class="mono py-1.5 pr-4 text-right">{{ countText(each.files) }}</td><td class="mono py-1.5 pr-4 text-right">{{ countText(each.opened) }}</td><td class="mono py-1.5 pr-4 text-right">{{ countText(each.found) }}</td><td class="mono py-1.5 pr-4 text-right">{{ countText(each.added) }}</td>
                <td class="max-w-72 py-1.5 pr-3"><span v-if="each.problem" class="text-rust">{{ each.problem }}</span><TagMark v-else-if="each.undecided > 0" tone="dusk">{{ each.undecided }} undecided</TagMark><span v-else class="text-muted">{{ each.finishedAt ? 'nothing left to decide' : 'running' }}</span></td>
              </tr>
            </tbody>
          </table>
          <p v-if="crawl.value.value.runs.length === 0" class="px-4 py-3 text-muted">It was not run yet.</p>
        </section>
        <section class="min-h-0 overflow-auto border border-rule bg-card px-4 py-3" aria-label="Drift">
          <h2>Drift it saw</h2>
          <p v-if="ownDrift.length === 0" class="mt-1 text-muted">Columns and types of the registered tables are as they were when they were registered.</p>
          <ol class="mt-1">
            <li v-for="each in ownDrift" :key="each.id" class="border-t border-hairline py-1.5">
              <p><RouterLink class="plain-link font-semibold" :to="tableLink(each.table)">{{ each.table }}</RouterLink> <span class="mono">{{ each.column }}</span> <b class="text-dusk">{{ each.kind.replace('column ', '').replace('type ', '') }}</b><template v-if="each.before && each.after">: {{ each.before }} to {{ each.after }}</template><template v-else-if="each.after">, {{ each.after }}</template></p>
              <p class="text-muted" :title="utcText(each.at)">{{ timeText(each.at) }}, {{ each.done === 'open' ? 'not decided yet' : `${each.done} by ${each.doneBy}` }}<template v-if="each.files.length > 0">; in <span class="mono">{{ each.files[0] }}</span></template></p>
            </li>
          </ol>
        </section>
      </div>
    </template>
  </PageFrame>
</template>
