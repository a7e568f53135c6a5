<script setup lang="ts">
/** Taking a name out of the catalog: what goes, what stays, who will miss it; asks for the name. */
import { ref } from 'vue';
import { call } from '../../api/client';
import type { TableDetail } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import { bytesText, plural } from '../../design/format';
import ProblemBox from '../../design/ProblemBox.vue';
import { useAct, useLoad } from '../../stores/load';

const props = defineProps<{ detail: TableDetail }>();
const emit = defineEmits<{ close: []; gone: [] }>();
const path = `/catalog/${encodeURIComponent(props.detail.namespace)}/${encodeURIComponent(props.detail.name)}`;
const readers = useLoad(() => call<{ views: string[] }>(`${path}/readers`));
void readers.reload();
const typed = ref('');
const { busy, problem, run } = useAct();
async function unregister(): Promise<void> {
  if (await run(() => call(path, { method: 'DELETE' }))) emit('gone');
}
</script>

<template>
  <form class="mt-3 border border-rust px-4 py-3" aria-label="Unregister" @submit.prevent="unregister" @keydown.esc="emit('close')">
    <p v-if="detail.kind === 'table'">The name leaves the catalog. <b>Its {{ plural(detail.files, 'file') }}, {{ bytesText(detail.bytes) }}, stay</b> at <span class="mono break-all">{{ detail.storage }}:{{ detail.location }}</span>, and a crawl can register them again.</p>
    <p v-else>The view leaves the catalog with its query. No file goes.</p>
    <p v-if="readers.value.value && readers.value.value.views.length > 0" class="mt-1 text-rust">Read by {{ readers.value.value.views.join(', ') }}, which will fail without it.</p>
    <p v-else-if="readers.value.value" class="mt-1 text-muted">No view reads it.</p>
    <label class="mt-2 grid max-w-64 gap-0.5"><span class="text-muted">Write <b class="mono text-ink">{{ detail.name }}</b> to confirm</span><input v-model="typed" class="mono h-[29px] border border-rule bg-card px-2" autocomplete="off" spellcheck="false"></label>
    <ProblemBox v-if="problem" class="mt-2" :problem="problem" />
    <p class="mt-2 flex gap-2"><BaseButton look="danger" type="submit" :disabled="busy || typed !== detail.name">Take it out of the catalog</BaseButton><BaseButton @click="emit('close')">Leave it</BaseButton></p>
  </form>
</template>
