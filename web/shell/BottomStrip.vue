<script setup lang="ts">
import { computed, ref } from 'vue';
import { countText, timeText } from '../design/format';
import ProgressBar from '../design/ProgressBar.vue';
import { useJobs } from '../stores/jobs';
import { connected } from '../stores/live';
import { useSession } from '../stores/session';

const jobs = useJobs();
const session = useSession();
const open = ref(false);
const first = computed(() => jobs.running[0]);
const words: Record<string, string> = { running: 'running', done: 'done', failed: 'failed', cancelled: 'stopped', interrupted: 'cut off' };
</script>

<template>
  <footer class="relative flex items-center gap-3 border-t border-ink bg-card px-[18px] text-small text-muted">
    <section v-if="open" class="absolute inset-x-0 bottom-full max-h-[50vh] overflow-auto border-t border-ink bg-card px-[18px] py-3" aria-label="Recent runs" @keydown.esc="open = false">
      <p v-if="jobs.jobs.length === 0">Nothing has run yet. Crawl a folder to see its progress here.</p>
      <article v-for="job in jobs.jobs.slice(0, 12)" :key="job.id" class="border-b border-hairline py-1.5">
        <p><b class="text-ink">{{ job.title }}</b> <span :class="job.state === 'failed' ? 'text-rust' : ''">{{ words[job.state] }}</span>, {{ timeText(job.startedAt) }}<template v-if="job.message && job.state !== 'done'">: {{ job.message }}</template></p>
        <p v-for="(line, index) in job.log.slice(-6)" :key="index" class="mono">{{ line.text }}</p>
      </article>
    </section>
    <button class="flex items-center gap-2 hover:text-ink" :aria-expanded="open" aria-label="Recent runs" @click="open = !open">
      <span aria-hidden="true" class="text-tiny">{{ open ? '▾' : '▴' }}</span>
      <template v-if="first">
        <span>{{ first.title }}</span>
      </template>
      <template v-else>Nothing running</template>
    </button>
    <template v-if="first">
      <ProgressBar :done="first.done" :total="first.total" class="w-28" />
      <span>{{ countText(first.done) }}<template v-if="first.total"> of {{ countText(first.total) }}</template></span>
      <button class="plain-link" @click="jobs.stop(first.id)">stop</button>
    </template>
    <span class="ml-auto" role="status">
      <template v-if="!connected"><b class="text-rust">No connection to the server; trying again</b></template>
      <template v-else-if="jobs.running.length > 0">{{ jobs.running.length }} running, {{ jobs.failedToday.length }} failed today</template>
      <template v-else-if="session.engine">Engine ready, {{ session.engine.threads }} threads, {{ session.engine.memory.replace(/(\d)([A-Z])/, '$1 $2') }} a query</template>
    </span>
  </footer>
</template>
