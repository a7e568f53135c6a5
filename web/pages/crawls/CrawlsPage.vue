<script setup lang="ts">
/** Every crawl with its rules in a sentence and its last outcome. */
import { ref } from 'vue';
import { call } from '../../api/client';
import type { Crawl } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import EmptyState from '../../design/EmptyState.vue';
import { countText, timeText, utcText } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import TagMark from '../../design/TagMark.vue';
import PageFrame from '../../shell/PageFrame.vue';
import { useLive } from '../../stores/live';
import { useCrawlStart } from '../../stores/crawls';
import { useLoad } from '../../stores/load';
import CrawlSentence from './CrawlSentence.vue';
import { newCrawl, sentenceOf } from './crawl-words';

const crawls = useLoad(() => call<Crawl[]>('/crawls'));
const storages = useLoad(() => call<{ name: string; kind: string }[]>('/storages'));
void crawls.reload();
void storages.reload();
useLive((event) => event.topic === 'crawl' && void crawls.reload(), () => void crawls.reload());
const defining = ref(false);
const { busy: starting, problem, again } = useCrawlStart();
async function defined(): Promise<void> {
  defining.value = false;
  await crawls.reload();
}
</script>

<template>
  <PageFrame :steps="[{ label: 'Crawls' }]">
    <template #title><h1>Crawls</h1><span class="text-muted">A crawl looks at folders and says what it found. Nothing is registered before you decide, unless its rules say so.</span></template>
    <template v-if="storages.value.value?.length" #actions><BaseButton look="strong" :aria-expanded="defining" @click="defining = !defining">Define a crawl</BaseButton></template>
    <CrawlSentence v-if="defining && storages.value.value" class="mb-3" :crawl="newCrawl(storages.value.value[0]!.name)" :storages="storages.value.value" @close="defining = false" @saved="defined" />
    <ProblemBox v-if="problem" class="mb-3" :problem="problem" />
    <ProblemBox v-if="crawls.problem.value" :problem="crawls.problem.value" can-retry @retry="crawls.reload" />
    <LoadingLine v-else-if="!crawls.value.value" what="crawls" />
    <EmptyState v-else-if="crawls.value.value.length === 0" title="Nothing was crawled yet">
      <template v-if="storages.value.value?.length">Define a crawl above, or <RouterLink class="plain-link" to="/storage">look around in storage</RouterLink> and crawl a folder from there. In the demo lake, <code>landing</code> waits to be crawled.</template>
      <template v-else>No storage is connected, so there is nothing to crawl.</template>
    </EmptyState>
    <div v-else class="min-h-0 overflow-auto border border-rule bg-card">
      <table class="w-full text-left">
        <thead class="sticky top-0 border-b border-ink bg-card"><tr><th class="px-4 py-1.5">Crawl</th><th>Last run</th><th class="pr-6 text-right">Files</th><th class="pr-6 text-right">Opened</th><th class="pr-6 text-right">Found</th><th>To decide</th><th><span class="sr-only">Act</span></th></tr></thead>
        <tbody>
          <tr v-for="crawl in crawls.value.value" :key="crawl.id" class="border-b border-hairline align-top">
            <td class="max-w-md px-4 py-1.5"><RouterLink class="plain-link font-semibold" :to="crawl.lastRun ? `/crawls/${crawl.lastRun.id}` : `/crawls/of/${crawl.id}`">{{ crawl.name }}</RouterLink><span class="block text-small text-muted">{{ sentenceOf(crawl.definition, crawl.scheduleWords) }}</span></td>
            <template v-if="crawl.lastRun">
              <td class="py-1.5" :title="utcText(crawl.lastRun.startedAt)">{{ timeText(crawl.lastRun.startedAt) }}<span v-if="crawl.lastRun.problem" class="block max-w-60 truncate text-small text-rust" :title="crawl.lastRun.problem">{{ crawl.lastRun.problem }}</span><template v-else-if="!crawl.lastRun.finishedAt">, not finished</template></td>
              <td class="mono py-1.5 pr-6 text-right">{{ countText(crawl.lastRun.files) }}</td><td class="mono py-1.5 pr-6 text-right">{{ countText(crawl.lastRun.opened) }}</td><td class="mono py-1.5 pr-6 text-right">{{ countText(crawl.lastRun.found) }}</td>
              <td class="py-1.5"><TagMark v-if="crawl.lastRun.undecided > 0" tone="dusk">{{ crawl.lastRun.undecided }} undecided</TagMark><span v-else class="text-muted">none</span></td>
            </template>
            <td v-else colspan="5" class="py-1.5 text-muted">not run yet</td>
            <td class="py-1 pr-4 text-right whitespace-nowrap"><RouterLink class="plain-link mr-3" :to="`/crawls/of/${crawl.id}`">rules and history</RouterLink><BaseButton :disabled="starting" @click="again(crawl.id)">{{ crawl.lastRun ? 'Crawl again' : 'Crawl now' }}</BaseButton></td>
          </tr>
        </tbody>
      </table>
    </div>
  </PageFrame>
</template>
