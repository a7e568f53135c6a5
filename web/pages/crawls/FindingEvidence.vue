<script setup lang="ts">
/** Why a finding is what it is, for the person who decides. */
import { computed, ref, watch } from 'vue';
import { call, storageLink, tableLink } from '../../api/client';
import type { Finding } from '../../api/types';
import ColumnMap from '../../charts/ColumnMap.vue';
import { bytesText, countText, plural } from '../../design/format';
import ProblemBox from '../../design/ProblemBox.vue';
import ProgressBar from '../../design/ProgressBar.vue';
import { useJobs } from '../../stores/jobs';
import { useAct } from '../../stores/load';
import ColumnGrounds from './ColumnGrounds.vue';
import CorrectFinding from './CorrectFinding.vue';

const props = defineProps<{ finding: Finding }>();
const emit = defineEmits<{ changed: []; always: [] }>();
const act = useAct();
const correcting = ref(false);
const evidence = computed(() => props.finding.evidence);
const fromFiles = computed(() => evidence.value.columns.filter((column) => !column.fromPath));
async function take(misfits: string): Promise<void> {
  if (props.finding.definition?.kind !== 'folder') return;
  const options = { ...props.finding.definition.folder.options, misfits };
  if (await act.run(() => call(`/findings/${props.finding.id}/correct`, { body: { options } }))) emit('changed');
}
/** Whether some of it was taken to be like the rest. */
const isPart = computed(() => evidence.value.proof !== undefined && props.finding.definition?.kind === 'folder' && props.finding.format !== 'parquet' && evidence.value.problems.length === 0 && (evidence.value.proof.files < evidence.value.proof.of || evidence.value.proof.rows === null));
const jobs = useJobs();
const jobId = ref<string>();
const checking = computed(() => jobs.jobs.find((each) => each.id === jobId.value && each.state === 'running'));
async function check(): Promise<void> {
  await act.run(async () => (jobId.value = (await call<{ jobId: string }>(`/findings/${props.finding.id}/check`, { body: {} })).jobId));
}
const stop = () => act.run(() => call(`/jobs/${jobId.value}/cancel`, { body: {} }));
watch(() => jobs.jobs.find((each) => each.id === jobId.value)?.state, (state) => state && state !== 'running' && emit('changed'));
const fileLink = (path: string) => ({ path: storageLink(props.finding.storage, path.split('/').slice(0, -1).join('/')).path, query: { file: path.split('/').at(-1) } });
</script>

<template>
  <div class="grid content-start gap-3">
    <section class="border border-rule bg-card px-4 py-3" aria-label="Evidence">
      <header class="flex items-baseline gap-3">
        <h2 class="min-w-0 break-words">{{ finding.namespace }}.{{ finding.name }}</h2>
        <span v-if="finding.decision !== 'registered'" class="ml-auto flex shrink-0 gap-3">
          <button v-if="finding.decision.startsWith('leave-out')" class="plain-link" @click="$emit('always')">{{ finding.decision === 'leave-out-always' ? 'only this time' : 'leave out always' }}</button>
          <button v-if="finding.definition" class="plain-link" :aria-expanded="correcting" @click="correcting = !correcting">correct it</button>
        </span>
      </header>
      <CorrectFinding v-if="correcting" :finding="finding" :storage="finding.storage" @close="correcting = false" @corrected="correcting = false; $emit('changed')" />
      <p class="text-muted">
        <RouterLink class="plain-link" :to="storageLink(finding.storage, finding.location)">{{ finding.location || finding.storage }}</RouterLink>,
        {{ plural(finding.files, 'file') }}, {{ bytesText(finding.bytes) }}<template v-if="evidence.looked > 0">; {{ evidence.looked - evidence.known > 0 ? `${countText(evidence.looked - evidence.known)} opened` : 'none opened' }}<template v-if="evidence.known > 0">, {{ countText(evidence.known) }} as before</template><template v-if="evidence.of > evidence.looked">, the rest are taken to be alike</template></template>.
      </p>
      <p v-if="evidence.read" class="mono mt-1 break-words">{{ evidence.read }}</p>
      <p v-for="note in evidence.notes ?? []" :key="note" class="text-muted">{{ note[0]!.toUpperCase() }}{{ note.slice(1) }}.</p>
      <p v-if="evidence.proof && evidence.proof.rows !== null && evidence.proof.files > 0" class="mt-1">
        <template v-if="evidence.proof.files === evidence.proof.of">All {{ plural(evidence.proof.rows, 'row') }} were read like this.</template>
        <template v-else>{{ plural(evidence.proof.rows, 'row') }} of {{ countText(evidence.proof.files) }} of {{ plural(evidence.proof.of, 'file') }} were read like this.</template>
        <template v-for="each in evidence.proof.missing" :key="each.column"> In <span class="mono">{{ each.column }}</span> {{ plural(each.values, 'text') }} read as missing: {{ each.texts.map((text) => `“${text}”`).join(', ') }}.</template>
      </p>
      <p v-if="isPart && finding.decision !== 'registered'" class="mt-1">
        <template v-if="checking"><ProgressBar class="mr-2 inline-block w-32 align-middle" :done="checking.done" :total="checking.total" /> {{ countText(checking.done) }} of {{ plural(evidence.proof!.of, 'file') }} read to the end <button class="plain-link ml-2" @click="stop">stop</button></template>
        <template v-else>{{ evidence.proof!.files === 0 ? 'Its beginning was read like this' : 'The rest is taken to be alike' }}. <button class="plain-link" :disabled="act.busy.value" @click="check">Read all of it</button></template>
      </p>
      <ul v-if="(evidence.proof?.repairs.length ?? 0) > 0" class="mt-1 border-l-2 border-dusk pl-2"><li v-for="each in evidence.proof!.repairs" :key="each" class="break-words">{{ each[0]!.toUpperCase() }}{{ each.slice(1) }}</li></ul>
      <p v-if="evidence.affected.length > 0" class="mt-1">Read by <template v-for="(view, index) in evidence.affected" :key="view">{{ index > 0 ? ', ' : '' }}<RouterLink class="plain-link" :to="tableLink(view)">{{ view }}</RouterLink></template>.</p>
      <p v-if="finding.status === 'gone'" class="mt-2">Every file of this table is gone. Taken out, its name leaves the catalog; kept, it stays and reads as empty or fails.</p>
      <ul v-if="evidence.problems.length > 0" class="mt-2 border-l-2 border-rust pl-2">
        <li v-for="each in evidence.problems.slice(0, 8)" :key="each.path" class="break-words"><RouterLink class="plain-link mono" :to="fileLink(each.path)">{{ each.path }}</RouterLink>: {{ each.problem }}</li>
      </ul>
      <p v-if="(evidence.mends?.length ?? 0) > 0" class="mt-1 flex gap-x-3"><button v-for="each in evidence.mends" :key="each.label" class="plain-link" :disabled="act.busy.value" @click="take(each.misfits)">{{ each.label }}</button></p>
      <ProblemBox v-if="act.problem.value" class="mt-2" :problem="act.problem.value" />
      <p v-if="finding.status === 'no-shape'" class="mt-2">{{ finding.summary }}. These do not make one table; leave the folder out, or sort the files into folders of their own.</p>
      <template v-for="clash in evidence.clashes" :key="clash.column">
        <h3 class="mt-2 font-semibold text-rust">{{ clash.column }} has types that do not fit together</h3>
        <ul><li v-for="type in clash.types" :key="type.type"><span class="mono">{{ type.type }}</span> in {{ plural(type.files, 'file') }}, for example <RouterLink class="plain-link mono" :to="fileLink(type.example)">{{ type.example.split('/').at(-1) }}</RouterLink></li></ul>
        <p class="text-muted">Registered like this the column is read as text.</p>
      </template>
      <template v-if="evidence.buckets.length > 1">
        <h3 class="mt-2.5 mb-0.5 font-semibold">Where each column is present, file by file</h3>
        <ColumnMap :columns="fromFiles" :buckets="evidence.buckets" />
        <p v-for="each in evidence.partial" :key="each.column" class="mt-1 text-muted"><b class="text-dusk">{{ each.column }}</b> is in {{ countText(each.presentIn) }} of {{ countText(each.of) }} files, first in <RouterLink class="plain-link" :to="fileLink(each.firstIn)">{{ each.firstIn.split('/').slice(-2).join('/') }}</RouterLink>; older rows read null.</p>
        <p v-if="evidence.partial.length === 0" class="mt-1 text-muted">Every column is in every file that was opened.</p>
      </template>
      <ColumnGrounds :finding="finding" @changed="$emit('changed')" />
      <template v-if="evidence.partitions.length > 0">
        <h3 class="mt-2.5 font-semibold">Columns from the path</h3>
        <p v-for="part in evidence.partitions" :key="part.name"><span class="mono">{{ part.name }}</span> <span class="text-muted">{{ part.type }}, {{ plural(part.values, 'value') }}<template v-if="part.first !== null">, {{ part.first }} to {{ part.last }}</template></span></p>
      </template>
    </section>
    <section v-if="evidence.statement" class="border border-rule bg-card px-4 py-3" aria-label="Statement">
      <h2>As it will be registered</h2>
      <pre class="mt-1 max-h-56 overflow-auto whitespace-pre-wrap break-words" tabindex="0">{{ evidence.statement }}</pre>
    </section>
  </div>
</template>
