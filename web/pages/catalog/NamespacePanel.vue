<script setup lang="ts">
/** A namespace by itself: what it is for, the folder that it belongs to, and taking it down in one account. */
import { ref, watch } from 'vue';
import { call } from '../../api/client';
import type { NamespaceName } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import { bytesText, plural } from '../../design/format';
import ProblemBox from '../../design/ProblemBox.vue';
import TextField from '../../design/TextField.vue';
import { useAct, useLoad } from '../../stores/load';

const props = defineProps<{ namespace: NamespaceName; storages: readonly string[] }>();
const emit = defineEmits<{ gone: [] }>();
const editing = ref(false);
const down = ref(false);
const text = ref({ description: '', owner: '', storage: '', folder: '' });
const path = () => `/namespaces/${encodeURIComponent(props.namespace.name)}`;
watch(() => props.namespace.name, () => {
  editing.value = false;
  down.value = false;
});
function edit(): void {
  const { description, owner, storage, folder } = props.namespace;
  text.value = { description, owner, storage: storage ?? '', folder: folder ?? '' };
  editing.value = true;
}
const { busy, problem, run } = useAct();
async function save(): Promise<void> {
  const { description, owner, storage, folder } = text.value;
  if (await run(() => call(path(), { method: 'PATCH', body: { description, owner, place: storage === '' ? null : { storage, folder } } }))) editing.value = false;
}
interface Teardown {
  relations: { name: string; kind: string; managed: boolean; files: number | null; bytes: number | null; views: string[] }[];
}
const account = useLoad(() => call<Teardown>(`${path()}/teardown`));
const typed = ref('');
const files = ref<'keep' | 'remove'>('keep');
function openDown(): void {
  typed.value = '';
  down.value = true;
  void account.reload();
}
async function takeDown(): Promise<void> {
  if (await run(() => call(`${path()}?${new URLSearchParams({ confirm: typed.value, files: files.value })}`, { method: 'DELETE' }))) emit('gone');
}
</script>

<template>
  <article class="overflow-auto px-5 py-4">
    <h2 class="text-[19px]">{{ namespace.name }}</h2>
    <form v-if="editing" class="mt-2 grid max-w-2xl grid-cols-2 gap-x-3 gap-y-2" aria-label="Describe the namespace" @submit.prevent="save" @keydown.esc="editing = false">
      <TextField v-model="text.description" class="col-span-2" label="What it is for" /><TextField v-model="text.owner" label="Who owns it" />
      <label class="grid gap-0.5"><span class="text-muted">It belongs to a folder of</span><select v-model="text.storage" class="h-[29px] border border-rule bg-card px-1.5"><option value="">no storage</option><option v-for="storage in storages" :key="storage">{{ storage }}</option></select></label>
      <TextField v-if="text.storage" v-model="text.folder" class="col-span-2" mono label="Folder; what crawls find below it is put here" />
      <ProblemBox v-if="problem" class="col-span-2" :problem="problem" />
      <p class="col-span-2 flex gap-2.5"><BaseButton type="submit" :disabled="busy">Keep</BaseButton><BaseButton @click="editing = false">Leave it</BaseButton></p>
    </form>
    <template v-else>
      <p class="mt-1">{{ namespace.description || 'Nobody has described it yet.' }} <button class="plain-link text-muted" @click="edit">change</button></p>
      <p class="mt-1 text-muted">Owned by {{ namespace.owner || 'nobody yet' }}; {{ namespace.folder === null ? 'belongs to no folder' : `what crawls find under ${namespace.storage}:${namespace.folder} is put here` }}.</p>
    </template>
    <p class="mt-4 text-muted">Choose a table or view, or <button class="plain-link" @click="openDown">take the namespace down …</button></p>
    <form v-if="down" class="mt-2 max-w-2xl border border-rust px-4 py-3" aria-label="Take the namespace down" @submit.prevent="takeDown" @keydown.esc="down = false">
      <p v-if="account.value.value?.relations.length === 0">Nothing is in it.</p>
      <ul v-else-if="account.value.value" class="max-h-52 overflow-auto"><li v-for="each in account.value.value.relations" :key="each.name" class="border-t border-hairline py-0.5"><b>{{ each.name }}</b>, {{ each.kind === 'view' ? 'a view' : `${plural(each.files ?? 0, 'file')}, ${bytesText(each.bytes ?? 0)}, ${each.managed ? 'managed' : 'external: they stay'}` }}<span v-if="each.views.length > 0" class="text-rust">; read by {{ each.views.join(', ') }}</span></li></ul>
      <p v-if="account.value.value?.relations.some((each) => each.managed)" class="mt-1 flex gap-4"><label class="flex items-center gap-1.5"><input v-model="files" type="radio" value="keep" class="accent-(--tide)">files of managed tables stay</label><label class="flex items-center gap-1.5 text-rust"><input v-model="files" type="radio" value="remove" class="accent-(--rust)">they are removed for good</label></p>
      <TextField v-model="typed" class="mt-2 max-w-64" mono :label="`Write ${namespace.name} to confirm`" />
      <ProblemBox v-if="problem" class="mt-2" :problem="problem" />
      <p class="mt-2 flex gap-2"><BaseButton look="danger" type="submit" :disabled="busy || typed !== namespace.name">Take it down</BaseButton><BaseButton @click="down = false">Leave it</BaseButton></p>
    </form>
  </article>
</template>
