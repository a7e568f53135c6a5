<script setup lang="ts">
/** Taking a table or view down, in one account: what it holds, what goes, what stays, who will miss it; asks for the name. */
import { computed, ref } from 'vue';
import { call } from '../../api/client';
import type { TableDetail } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import { bytesText, plural } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import { useAct, useLoad } from '../../stores/load';

interface Teardown {
  files: number | null;
  bytes: number | null;
  versions: number | null;
  inside: string[];
  views: string[];
  savedQueries: string[];
  receipts: { queries: number; people: number };
}
const props = defineProps<{ detail: TableDetail }>();
const emit = defineEmits<{ close: []; gone: [] }>();
const path = `/catalog/${encodeURIComponent(props.detail.namespace)}/${encodeURIComponent(props.detail.name)}`;
const full = `${props.detail.namespace}.${props.detail.name}`;
const account = useLoad(() => call<Teardown>(`${path}/teardown`));
void account.reload();
const hasFiles = props.detail.kind === 'table' && props.detail.format !== 'postgres';
const files = ref<'keep' | 'trash' | 'remove'>(props.detail.managed ? 'trash' : 'keep');
const removes = computed(() => hasFiles && files.value === 'remove');
const typed = ref('');
const { busy, problem, run } = useAct();
async function takeDown(): Promise<void> {
  const query = new URLSearchParams({ ...(hasFiles ? { files: files.value } : {}), ...(removes.value ? { confirm: full } : {}) });
  if (await run(() => call(`${path}?${query}`, { method: 'DELETE' }))) emit('gone');
}
</script>

<template>
  <form class="mt-3 border border-rust px-4 py-3" aria-label="Unregister" @submit.prevent="takeDown" @keydown.esc="emit('close')">
    <ProblemBox v-if="account.problem.value" :problem="account.problem.value" />
    <LoadingLine v-else-if="!account.value.value" what="what it holds" />
    <template v-for="held in account.value.value ? [account.value.value] : []" v-else :key="held.versions ?? 0">
      <template v-if="hasFiles">
        <p>Its folder <span class="mono break-all">{{ detail.storage }}:{{ detail.location }}</span> holds <b>{{ plural(held.files ?? 0, 'file') }}, {{ bytesText(held.bytes ?? 0) }}</b>, of {{ plural(held.versions ?? 0, 'version') }}.</p>
        <p role="radiogroup" aria-label="Its files" class="my-1 grid gap-1"><label v-if="detail.managed" class="flex items-center gap-1.5"><input v-model="files" type="radio" value="trash" class="accent-(--tide)">they wait in the trash, and the table can come back</label><label class="flex items-center gap-1.5"><input v-model="files" type="radio" value="keep" class="accent-(--tide)">they stay; a crawl can register them again</label><label class="flex items-center gap-1.5 text-rust"><input v-model="files" type="radio" value="remove" class="accent-(--rust)">they are removed for good, every version</label></p>
        <p v-if="removes && held.inside.length > 0" class="text-rust">{{ held.inside.join(', ') }} {{ held.inside.length === 1 ? 'lies' : 'lie' }} in the same folder, so it cannot be removed.</p>
      </template>
      <p v-else-if="detail.kind === 'view'">The view leaves the catalog with its query. No file goes.</p>
      <p v-else>The name leaves the catalog; the database keeps its table.</p>
      <p v-if="held.views.length > 0" class="mt-1 text-rust">Read by {{ held.views.join(', ') }}, which will fail without it.</p>
      <p v-else class="mt-1 text-muted">No view reads it.</p>
      <p v-if="held.savedQueries.length > 0" class="text-rust">Read by the saved {{ held.savedQueries.length === 1 ? 'query' : 'queries' }} {{ held.savedQueries.join(', ') }}.</p>
      <p v-if="held.receipts.queries > 0">{{ plural(held.receipts.queries, 'query', 'queries') }} of {{ plural(held.receipts.people, 'person or token', 'people or tokens') }} read it in the last 30 days.</p>
    </template>
    <label class="mt-2 grid max-w-64 gap-0.5"><span class="text-muted">Write <b class="mono text-ink">{{ removes ? full : detail.name }}</b> to confirm</span><input v-model="typed" class="mono h-[29px] border border-rule bg-card px-2" autocomplete="off" spellcheck="false"></label>
    <ProblemBox v-if="problem" class="mt-2" :problem="problem" />
    <p class="mt-2 flex gap-2"><BaseButton look="danger" type="submit" :disabled="busy || typed !== (removes ? full : detail.name)">{{ removes ? 'Take it down with its files' : files === 'trash' ? 'Drop it' : 'Take it out of the catalog' }}</BaseButton><BaseButton @click="emit('close')">Leave it</BaseButton></p>
  </form>
</template>
