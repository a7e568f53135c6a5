<script setup lang="ts">
import { computed, ref, watch } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import { call } from '../../api/client';
import type { CrawlRun, Decision, Finding, FindingBrief } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import FilterInput from '../../design/FilterInput.vue';
import { countText, plural, timeText } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import ProgressBar from '../../design/ProgressBar.vue';
import TagMark from '../../design/TagMark.vue';
import PageFrame from '../../shell/PageFrame.vue';
import { useJobs } from '../../stores/jobs';
import { useLive } from '../../stores/live';
import { useCrawlStart } from '../../stores/crawls';
import { useAct, useLoad } from '../../stores/load';
import FindingEvidence from './FindingEvidence.vue';
import { countDecisions, formatWord, groupFindings, statusMark } from './findings';

/** Rows that are drawn before somebody asks for more. */
const MOST_SHOWN = 300;
const route = useRoute();
const router = useRouter();
const jobs = useJobs();
const runId = computed(() => Number(route.params.run));
const run = useLoad(() => call<CrawlRun>(`/crawl-runs/${runId.value}?brief=true`));
watch(runId, run.reload, { immediate: true });
useLive((event) => event.topic === 'crawl' && event.runId === runId.value && void run.reload(), () => void run.reload());

const job = computed(() => jobs.jobs.find((each) => each.id === run.value.value?.jobId));
watch(() => job.value?.state, (state) => state && state !== 'running' && void run.reload());
const filter = ref('');
const showFolded = ref(false);
const groups = computed(() => groupFindings(run.value.value?.findings ?? [], filter.value));
const counts = computed(() => countDecisions(run.value.value?.findings ?? []));
const chosen = computed(() => {
  const wanted = Number(route.query.finding);
  const all = run.value.value?.findings ?? [];
  return all.find((each) => each.id === wanted) ?? groups.value.open[0] ?? all[0];
});
/** What the chosen one rests on; asked for anew when it changed. */
const detail = useLoad(() => call<Finding>(`/findings/${chosen.value!.id}`));
watch(() => chosen.value && `${chosen.value.id} ${chosen.value.decision} ${chosen.value.status} ${chosen.value.summary}`, () => chosen.value && void detail.reload());
const shownMost = ref(MOST_SHOWN);
const shown = computed(() => [...groups.value.open, ...(showFolded.value ? [...groups.value.unchanged, ...groups.value.always] : [])]);
const choose = (finding: FindingBrief) => void router.replace({ query: { ...route.query, finding: String(finding.id) } });

const { busy, problem, run: act } = useAct();
const notes = ref<string[]>([]);
const decide = (finding: Pick<FindingBrief, 'id'>, decision: Decision) => act(async () => {
  await call(`/findings/${finding.id}`, { method: 'PATCH', body: { decision } });
  await run.reload();
});
const refresh = () => Promise.all([run.reload(), detail.reload()]);
const register = () => act(async () => {
  const { registered, failed } = await call<{ registered: string[]; failed: { name: string; problem: string }[] }>(`/crawl-runs/${runId.value}/register`, { body: {} });
  notes.value = [...(registered.length > 0 ? [`Registered ${registered.join(', ')}.`] : []), ...failed.map((each) => `${each.name} was not registered: ${each.problem}`)];
  await run.reload();
});
const crawl = useCrawlStart();
async function again(): Promise<void> {
  notes.value = [];
  await crawl.again(run.value.value!.crawlId);
}
const place = computed(() => run.value.value?.crawl ?? '');
const seconds = computed(() => (run.value.value?.finishedAt ? (new Date(run.value.value.finishedAt).getTime() - new Date(run.value.value.startedAt).getTime()) / 1000 : 0));
/** Left out for good is left out too. */
const isChosen = (finding: FindingBrief, decision: Decision) => finding.decision === decision || (decision === 'leave-out' && finding.decision === 'leave-out-always');
/** What is gone is taken out of the catalog, or kept in it. */
const choicesOf = (finding: FindingBrief): { decision: Decision; words: string }[] => [{ decision: 'register', words: finding.status === 'gone' ? 'take out' : finding.status === 'changed' ? 'take over' : 'register' }, { decision: 'leave-out', words: finding.status === 'gone' ? 'keep' : 'leave out' }];
</script>

<template>
  <PageFrame :steps="[{ label: 'Crawls', to: '/crawls' }, ...(run.value.value ? [{ label: place, to: `/crawls/of/${run.value.value.crawlId}` }, { label: timeText(run.value.value.startedAt) }] : [])]">
    <template #title>
      <h1>What the crawl found</h1>
      <span v-if="run.value.value?.finishedAt" class="text-muted">{{ place }}: {{ plural(run.value.value.files, 'file') }} in {{ seconds.toFixed(1) }} s, {{ countText(run.value.value.opened) }} opened<template v-if="run.value.value.added > 0">, {{ plural(run.value.value.added, 'table') }} registered by rule</template>; run by {{ run.value.value.who || 'nobody' }}{{ run.value.value.cause === 'restart' ? ' after a restart' : '' }}</span>
    </template>
    <template v-if="run.value.value?.finishedAt" #actions>
      <BaseButton @click="again">Crawl again</BaseButton>
      <BaseButton look="strong" :disabled="counts.register === 0 || busy" @click="register">Register {{ counts.register }}</BaseButton>
    </template>
    <ProblemBox v-if="problem ?? crawl.problem.value" class="mb-2" :problem="(problem ?? crawl.problem.value)!" />
    <p v-for="note in notes" :key="note" role="status" class="mb-2 border border-kelp bg-kelp-soft px-3 py-1.5">{{ note }} <RouterLink class="plain-link" to="/catalog">Open the catalog</RouterLink></p>
    <ProblemBox v-if="run.problem.value" :problem="run.problem.value" can-retry @retry="run.reload" />
    <LoadingLine v-else-if="!run.value.value" what="the crawl" />
    <section v-else-if="!run.value.value.finishedAt" class="max-w-2xl border border-rule bg-card px-4 py-3" role="status">
      <template v-if="job && job.state !== 'running'">
        <p class="font-semibold text-rust">The crawl {{ job.state === 'failed' ? 'failed' : 'was stopped' }}.</p><p>{{ job.message }}</p>
        <BaseButton class="mt-2" @click="again">Crawl again</BaseButton>
      </template>
      <template v-else>
        <p class="font-semibold">Looking at {{ place }} …</p>
        <p v-if="job" class="mt-1 flex items-center gap-3"><ProgressBar class="w-64" :done="job.done" :total="job.total" /> {{ countText(job.done) }}<template v-if="job.total"> of {{ countText(job.total) }} files</template></p>
        <p v-for="(line, index) in job?.log ?? []" :key="index" class="mono text-muted">{{ line.text }}</p>
      </template>
    </section>
    <div v-else class="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_minmax(380px,430px)] gap-3.5">
      <section class="flex min-h-0 flex-col border border-rule bg-card" aria-label="Findings">
        <header class="flex items-center gap-4 px-3 pt-2">
          <b>{{ counts.undecided }} undecided</b><span>{{ counts.register }} to register</span><span>{{ counts.leaveOut }} left out</span><span v-if="counts.registered > 0" class="text-kelp">{{ counts.registered }} registered</span>
          <FilterInput v-model="filter" class="ml-auto" label="Filter findings" />
        </header>
        <div class="min-h-0 overflow-auto">
          <table class="w-full text-left">
            <thead class="sticky top-0 z-10 border-b border-ink bg-card"><tr><th class="px-3 py-1.5">Finding</th><th>Since last time</th><th class="pr-5 text-right">Files</th><th class="pr-5 text-right">Rows</th><th>Decision</th></tr></thead>
            <tbody>
              <tr
                v-for="finding in shown.slice(0, shownMost)" :key="finding.id" class="cursor-pointer border-b border-l-[3px] border-b-hairline align-top"
                :class="finding.id === chosen?.id ? 'border-l-tide bg-tide-soft' : 'border-l-transparent hover:bg-paper'" @click="choose(finding)"
              >
                <td class="max-w-[330px] py-1.5 pr-3 pl-2.5"><button class="text-left font-semibold" :aria-pressed="finding.id === chosen?.id" @click.stop="choose(finding)">{{ finding.namespace }}.{{ finding.name }}</button> <TagMark>{{ formatWord(finding) }}</TagMark><span class="block break-words text-small text-muted">{{ finding.summary }}</span></td>
                <td class="py-1.5"><TagMark :tone="statusMark(finding).tone">{{ statusMark(finding).words }}</TagMark></td>
                <td class="mono py-1.5 pr-5 text-right">{{ countText(finding.files) }}</td>
                <td class="mono py-1.5 pr-5 text-right" :title="finding.rowsAreEstimated ? 'Estimated from the files that were opened' : 'Counted'">{{ finding.rows === null ? '' : `${finding.rowsAreEstimated ? 'about ' : ''}${countText(finding.rows)}` }}</td>
                <td class="py-1.5 pr-3 whitespace-nowrap">
                  <span v-if="finding.decision === 'unregistered'" class="text-muted">taken out</span>
                  <RouterLink v-else-if="finding.decision === 'registered'" class="plain-link" :to="`/tables/${encodeURIComponent(finding.namespace)}/${encodeURIComponent(finding.name)}`" @click.stop>open table</RouterLink>
                  <span v-else role="radiogroup" :aria-label="`Decision on ${finding.namespace}.${finding.name}`" class="inline-flex">
                    <button
                      v-for="choice in choicesOf(finding)" :key="choice.decision" role="radio" :aria-checked="isChosen(finding, choice.decision)" :disabled="choice.decision === 'register' && !finding.isDefined"
                      class="-ml-px border border-rule px-2.5 py-0.5 first:ml-0 disabled:text-muted disabled:opacity-60" :class="isChosen(finding, choice.decision) ? 'border-ink bg-ink text-card' : 'bg-card hover:border-ink'"
                      :title="choice.decision === 'register' && !finding.isDefined ? 'There is nothing here that could be registered as one table' : isChosen(finding, choice.decision) ? 'Click again to leave it undecided' : undefined"
                      @click.stop="decide(finding, isChosen(finding, choice.decision) ? 'undecided' : choice.decision)"
                    >{{ choice.words }}</button>
                  </span>
                </td>
              </tr>
            </tbody>
          </table>
          <button v-if="shown.length > shownMost" class="plain-link w-full px-3 py-2 text-left" @click="shownMost += MOST_SHOWN * 3">Show more of the {{ countText(shown.length - shownMost) }} that follow</button>
          <button v-if="groups.unchanged.length + groups.always.length > 0" class="w-full border-t border-ink px-3 py-2 text-left text-muted" :aria-expanded="showFolded" @click="showFolded = !showFolded">{{ showFolded ? '▾' : '▸' }} {{ [groups.unchanged.length > 0 ? `${groups.unchanged.length} unchanged` : '', groups.always.length > 0 ? `${groups.always.length} always left out` : ''].filter(Boolean).join(', ') }}</button>
        </div>
      </section>
      <div class="min-h-0 overflow-auto" tabindex="0" role="region" aria-label="Evidence of the chosen finding"><ProblemBox v-if="detail.problem.value" :problem="detail.problem.value" can-retry @retry="detail.reload" /><FindingEvidence v-else-if="chosen && detail.value.value?.id === chosen.id" :key="chosen.id" :finding="detail.value.value" @changed="refresh" @always="decide(chosen, chosen.decision === 'leave-out-always' ? 'leave-out' : 'leave-out-always')" /></div>
    </div>
  </PageFrame>
</template>
