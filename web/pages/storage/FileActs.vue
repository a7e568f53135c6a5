<script setup lang="ts">
/** Renames, moves or removes what was chosen, after an account of which tables use it. */
import { computed, ref, watch } from 'vue';
import { call, tableLink } from '../../api/client';
import type { FilesAccount } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import { bytesText, plural } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import TextField from '../../design/TextField.vue';
import { useAct, useLoad } from '../../stores/load';

const props = defineProps<{ storage: string; paths: readonly string[]; act: 'move' | 'remove' }>();
const emit = defineEmits<{ close: []; done: [] }>();
const base = computed(() => `/storages/${encodeURIComponent(props.storage)}`);
const account = useLoad(() => call<FilesAccount>(`${base.value}/account`, { body: { paths: props.paths } }));
watch(() => props.paths, () => void account.reload(), { immediate: true });
const to = ref(props.paths[0] ?? '');
const confirmed = ref('');
const { busy, problem, run } = useAct();
const used = computed(() => account.value.value?.tables ?? []);
/** What must be typed before files go that a table uses. */
const word = computed(() => used.value[0]?.name ?? '');
const mayAct = computed(() => account.value.value !== undefined && (used.value.length === 0 || confirmed.value.trim() === word.value));

async function go(): Promise<void> {
  const evenIfUsed = used.value.length > 0;
  const body = props.act === 'move' ? { from: props.paths[0], to: to.value, evenIfUsed } : { paths: props.paths, evenIfUsed };
  if (await run(() => call(`${base.value}/${props.act}`, { body }))) emit('done');
}
</script>

<template>
  <form class="border-t border-ink px-3 py-2" :aria-label="act === 'move' ? 'Move or rename' : 'Remove'" @submit.prevent="go" @keydown.esc="emit('close')">
    <LoadingLine v-if="!account.value.value && !account.problem.value" what="what rests on it" />
    <ProblemBox v-if="account.problem.value" :problem="account.problem.value" />
    <template v-if="account.value.value">
      <p><b>{{ act === 'move' ? 'Move' : 'Remove' }} {{ paths.length === 1 ? paths[0] : plural(paths.length, 'thing') }}</b>: {{ plural(account.value.value.files, 'file') }}, {{ bytesText(account.value.value.bytes) }}. <span v-if="used.length === 0" class="text-kelp">No table uses them.</span></p>
      <div v-if="used.length > 0" class="my-1.5 border-l-2 border-rust pl-2">
        <p v-for="table in used.slice(0, 8)" :key="table.name"><RouterLink class="plain-link" :to="tableLink(table.name)">{{ table.name }}</RouterLink> {{ table.managed ? 'keeps' : 'reads' }} <template v-if="table.files !== null">{{ table.files }} of its {{ plural(table.of ?? 0, 'file') }} there</template><template v-else>files there</template><template v-if="table.views.length > 0">; {{ table.views.join(', ') }} {{ table.views.length === 1 ? 'reads' : 'read' }} it</template>.</p>
        <TextField v-model="confirmed" class="mt-1 max-w-72" :label="`Type ${word} to go on all the same`" mono />
      </div>
      <TextField v-if="act === 'move'" v-model="to" mono label="New path in this storage" required class="my-1.5" />
      <ProblemBox v-if="problem" class="my-1.5" :problem="problem" />
      <p class="mt-1.5 flex gap-2"><BaseButton :look="act === 'remove' ? 'danger' : 'strong'" type="submit" :disabled="busy || !mayAct">{{ act === 'move' ? 'Move' : 'Remove for good' }}</BaseButton><BaseButton @click="emit('close')">Leave it</BaseButton></p>
    </template>
  </form>
</template>
