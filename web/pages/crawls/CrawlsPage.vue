<script setup lang="ts">
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

const crawls = useLoad(() => call<Crawl[]>('/crawls'));
const storages = useLoad(() => call<{ name: string }[]>('/storages'));
void crawls.reload();
void storages.reload().then(() => (storage.value ||= storages.value.value?.[0]?.name ?? ''));
useLive((event) => event.topic === 'crawl' && void crawls.reload(), () => void crawls.reload());

const storage = ref('');
const folder = ref('');
const { busy: starting, problem, start } = useCrawlStart();
const place = (crawl: Crawl) => (crawl.folder === '' ? crawl.storage : `${crawl.storage}/${crawl.folder}`);
</script>

<template>
  <PageFrame :steps="[{ label: 'Crawls' }]">
    <template #title><h1>Crawls</h1><span class="text-muted">A crawl looks at folders and says what it found. Nothing is registered before you decide.</span></template>
    <form v-if="storage" class="mb-3 flex flex-wrap items-end gap-3 border border-rule bg-card px-4 py-3" @submit.prevent="start(storage, folder)">
      <label class="grid gap-0.5"><span class="text-muted">Storage</span>
        <select v-model="storage" class="h-[29px] border border-rule bg-card px-2"><option v-for="each in storages.value.value" :key="each.name">{{ each.name }}</option></select>
      </label>
      <label class="grid gap-0.5"><span class="text-muted">Folder, or nothing for all of it</span>
        <input v-model="folder" class="mono h-[29px] w-72 border border-rule bg-card px-2" placeholder="landing" autocomplete="off" spellcheck="false">
      </label>
      <BaseButton look="strong" type="submit" :disabled="starting">Crawl this folder</BaseButton>
    </form>
    <ProblemBox v-if="problem" class="mb-3" :problem="problem" />
    <ProblemBox v-if="crawls.problem.value" :problem="crawls.problem.value" can-retry @retry="crawls.reload" />
    <LoadingLine v-else-if="!crawls.value.value" what="crawls" />
    <EmptyState v-else-if="crawls.value.value.length === 0" title="Nothing was crawled yet">
      <template v-if="storage">Name a folder above, or <RouterLink class="plain-link" to="/storage">look around in storage</RouterLink> and crawl from there. In the demo lake, <code>landing</code> waits to be crawled.</template>
      <template v-else>No storage is connected, so there is nothing to crawl.</template>
    </EmptyState>
    <div v-else class="min-h-0 overflow-auto border border-rule bg-card">
      <table class="w-full text-left">
        <thead class="sticky top-0 border-b border-ink bg-card"><tr><th class="px-4 py-1.5">Folder</th><th>Last run</th><th class="pr-6 text-right">Files</th><th class="pr-6 text-right">Opened</th><th class="pr-6 text-right">Found</th><th>To decide</th><th><span class="sr-only">Act</span></th></tr></thead>
        <tbody>
          <tr v-for="crawl in crawls.value.value" :key="crawl.id" class="border-b border-hairline">
            <td class="px-4 py-2"><RouterLink v-if="crawl.lastRun" class="plain-link font-semibold" :to="`/crawls/${crawl.lastRun.id}`">{{ place(crawl) }}</RouterLink><span v-else>{{ place(crawl) }}</span></td>
            <template v-if="crawl.lastRun">
              <td :title="utcText(crawl.lastRun.startedAt)">{{ timeText(crawl.lastRun.startedAt) }}<template v-if="!crawl.lastRun.finishedAt">, not finished</template></td>
              <td class="mono pr-6 text-right">{{ countText(crawl.lastRun.files) }}</td><td class="mono pr-6 text-right">{{ countText(crawl.lastRun.opened) }}</td><td class="mono pr-6 text-right">{{ countText(crawl.lastRun.findings) }}</td>
              <td><TagMark v-if="crawl.lastRun.undecided > 0" tone="dusk">{{ crawl.lastRun.undecided }} undecided</TagMark><span v-else class="text-muted">none</span></td>
            </template>
            <td class="py-1 pr-4 text-right"><BaseButton :disabled="starting" @click="start(crawl.storage, crawl.folder)">Crawl again</BaseButton></td>
          </tr>
        </tbody>
      </table>
    </div>
  </PageFrame>
</template>
