<script setup lang="ts">
/** The rules of a crawl, edited as sentences. */
import { useDebounceFn } from '@vueuse/core';
import { computed, ref, watch } from 'vue';
import { call, Problem } from '../../api/client';
import type { AccessToken } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import { useAct } from '../../stores/load';
import { globsOf, newFolder, TIMES, type EditedCrawl } from './crawl-words';

const props = defineProps<{ crawl: EditedCrawl; storages: readonly { name: string; kind: string }[] }>();
const emit = defineEmits<{ close: []; saved: [id: number] }>();
const name = ref(props.crawl.name);
const rules = ref({ runAs: null, ...structuredClone(toPlain(props.crawl.definition)) });
const when = ref(TIMES.some((time) => time.value === (rules.value.schedule ?? '')) ? (rules.value.schedule ?? '') : 'own');
const words = ref('');
const { busy, problem, run } = useAct();
const tokens = ref<AccessToken[]>([]);
void call<AccessToken[]>('/access/tokens').then((all) => {
  tokens.value = all.filter((each) => each.revokedAt === null || each.id === rules.value.runAs);
}, () => undefined);

function toPlain<T>(value: T): T {
  return JSON.parse(JSON.stringify(value)) as T;
}
function chooseTime(): void {
  if (when.value !== 'own') rules.value.schedule = when.value || null;
  else rules.value.schedule ??= '0 2 * * *';
}
const tellWords = useDebounceFn(async (schedule: string) => {
  words.value = await call<{ words: string }>('/crawls/schedule-words', { body: { schedule } }).then((answer) => answer.words, (error: unknown) => (error instanceof Problem ? error.message : ''));
}, 250);
watch(() => rules.value.schedule, (schedule) => (schedule ? void tellWords(schedule) : (words.value = '')), { immediate: true });
/** What a chosen database holds, by kind; nothing for other storages. */
const held = ref<Record<string, { kind: string; count: number }[]>>({});
const kindsOf = (storage: string) => held.value[storage] ?? [];
watch(() => rules.value.folders.map((each) => each.storage), (storages) => {
  for (const each of rules.value.folders) each.kinds ??= [];
  for (const storage of new Set(storages)) if (!held.value[storage] && props.storages.some((known) => known.name === storage && known.kind === 'postgres')) void countObjects(storage);
}, { immediate: true });
async function countObjects(storage: string): Promise<void> {
  held.value[storage] = [];
  const { objects } = await call<{ objects: { kind: string; count: number }[] }>(`/storages/${encodeURIComponent(storage)}/objects`).catch(() => ({ objects: [] }));
  const counts = new Map<string, number>();
  for (const { kind, count } of objects) counts.set(kind, (counts.get(kind) ?? 0) + count);
  held.value[storage] = [...counts].map(([kind, count]) => ({ kind, count }));
}
const usualName = computed(() => `${rules.value.folders[0]!.storage}${rules.value.folders[0]!.folder === '' ? '' : `/${rules.value.folders[0]!.folder}`}`);

async function save(): Promise<void> {
  const body = { name: name.value.trim() || usualName.value, ...rules.value };
  let id = props.crawl.id ?? 0;
  const done = await run(async () => {
    const answer = props.crawl.id === undefined ? await call<{ id: number }>('/crawls/define', { body }) : await call<{ id: number }>(`/crawls/${props.crawl.id}`, { method: 'PUT', body });
    id = answer.id;
  });
  if (done) emit('saved', id);
}
</script>

<template>
  <form class="border border-ink bg-card px-4 py-3 leading-[34px]" aria-label="Rules of the crawl" @submit.prevent="save" @keydown.esc="emit('close')">
    <p><label class="contents">This crawl is called <input v-model="name" class="line-field w-56 font-semibold" :placeholder="usualName" aria-label="Name of the crawl" maxlength="200" autocomplete="off"></label>.</p>
    <p v-for="(each, index) in rules.folders" :key="index">
      It {{ index === 0 ? 'looks into' : 'also looks into' }}
      <select v-model="each.storage" class="line-field" :aria-label="`Storage ${index + 1}`"><option v-for="storage in storages" :key="storage.name">{{ storage.name }}</option></select> /
      <input v-model="each.folder" class="line-field mono w-52" placeholder="all of it" :aria-label="`Folder ${index + 1}`" spellcheck="false">, taking
      <input :value="each.include.join(', ')" class="line-field mono w-36" placeholder="every file" :aria-label="`Files to take ${index + 1}`" spellcheck="false" @change="each.include = globsOf(($event.target as HTMLInputElement).value)"> but not
      <input :value="each.exclude.join(', ')" class="line-field mono w-36" placeholder="none" :aria-label="`Files to leave ${index + 1}`" spellcheck="false" @change="each.exclude = globsOf(($event.target as HTMLInputElement).value)">.
      <span v-if="kindsOf(each.storage).length > 0">Of the database it takes <label v-for="object in kindsOf(each.storage)" :key="object.kind" class="mr-2 inline-flex items-center gap-1"><input v-model="each.kinds" type="checkbox" :value="object.kind" class="size-3 accent-(--tide)">{{ object.count }} {{ object.kind }}{{ object.count === 1 ? '' : 's' }}</label>{{ (each.kinds ?? []).length === 0 ? '(all, as none is ticked)' : '' }}. </span>
      <button v-if="rules.folders.length > 1" type="button" class="plain-link" @click="rules.folders.splice(index, 1)">not this folder</button>
      <button v-if="index === rules.folders.length - 1" type="button" class="plain-link" @click="rules.folders.push(newFolder(each.storage))">and another folder</button>
    </p>
    <p>
      A table is called <input v-model="rules.prefix" class="line-field mono w-24" placeholder="no prefix" aria-label="Prefix of table names" spellcheck="false"> and after
      <select v-model="rules.naming" class="line-field" aria-label="How tables are called"><option value="folder">its folder</option><option value="path">all folders below the crawled one</option></select>, in the namespace
      <input v-model="rules.namespace" class="line-field mono w-40" placeholder="of its first folder" aria-label="Namespace" spellcheck="false">.
      Of text files it opens <input v-model.number="rules.sample" type="number" min="1" max="1000" class="line-field mono w-16" aria-label="Text files to open"> in a folder.
    </p>
    <p>
      It <select v-model="rules.findings" class="line-field" aria-label="What to do with findings"><option value="ask">asks about everything it finds</option><option value="additions">registers what only adds, and asks about the rest</option></select>, and runs
      <select v-model="when" class="line-field" aria-label="When it runs" @change="chooseTime"><option v-for="time in TIMES" :key="time.value" :value="time.value">{{ time.words }}</option></select>
      <input v-if="when === 'own'" v-model="rules.schedule" class="line-field mono w-36" aria-label="Schedule in cron fields" spellcheck="false"><span v-if="rules.schedule" class="text-muted" role="status">{{ words }}</span>,
      with the rights of <select v-model="rules.runAs" class="line-field" aria-label="Whose rights it has"><option :value="null">whoever starts it</option><option v-for="token in tokens" :key="token.id" :value="token.id">{{ token.name }} (token)</option></select>.
    </p>
    <ProblemBox v-if="problem" class="my-2" :problem="problem" />
    <p class="mt-1 flex gap-2.5 leading-normal"><BaseButton look="strong" type="submit" :disabled="busy">{{ crawl.id === undefined ? 'Keep this crawl' : 'Change it' }}</BaseButton><BaseButton @click="emit('close')">Leave it</BaseButton></p>
  </form>
</template>
