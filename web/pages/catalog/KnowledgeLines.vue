<script setup lang="ts">
/** Who owns a table, how it is tagged, and who vouches for it; each is changed where it stands. */
import { computed, ref } from 'vue';
import { call } from '../../api/client';
import type { TableDetail } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import { dayText } from '../../design/format';
import ProblemBox from '../../design/ProblemBox.vue';
import TagMark from '../../design/TagMark.vue';
import { useAct } from '../../stores/load';

const props = defineProps<{ detail: TableDetail }>();
const editing = ref<'owner' | 'tags' | 'vouch'>();
const text = ref('');
const until = ref('');
const { busy, problem, run } = useAct();
const HALF_YEAR = 182 * 86_400_000;
const isPast = computed(() => props.detail.vouched !== null && new Date(props.detail.vouched.until).getTime() < Date.now());

function edit(what: 'owner' | 'tags' | 'vouch'): void {
  editing.value = what;
  text.value = what === 'owner' ? props.detail.owner : what === 'tags' ? props.detail.tags.join(', ') : (props.detail.vouched?.why ?? '');
  until.value = new Date(Date.now() + HALF_YEAR).toISOString().slice(0, 10);
}
async function keep(body: Record<string, unknown>): Promise<void> {
  if (await run(() => call(`/catalog/${encodeURIComponent(props.detail.namespace)}/${encodeURIComponent(props.detail.name)}`, { method: 'PATCH', body }))) editing.value = undefined;
}
function save(): Promise<void> {
  if (editing.value === 'owner') return keep({ owner: text.value });
  if (editing.value === 'tags') return keep({ tags: [...new Set(text.value.split(',').map((tag) => tag.trim()).filter(Boolean))] });
  return keep({ vouched: { why: text.value, until: `${until.value}T23:59:59Z` } });
}
</script>

<template>
  <form v-if="editing" class="my-1 flex flex-wrap items-end gap-2 border-l-2 border-dusk pl-3" :aria-label="editing === 'vouch' ? 'Vouch for it' : `Change the ${editing}`" @submit.prevent="save" @keydown.esc="editing = undefined">
    <label class="grid flex-1 gap-0.5"><span class="text-muted">{{ editing === 'owner' ? 'Who owns it' : editing === 'tags' ? 'Tags, with commas between' : 'Why it can be relied on' }}</span><input v-model="text" class="h-[29px] border border-rule bg-card px-2" :required="editing === 'vouch'" autocomplete="off"></label>
    <label v-if="editing === 'vouch'" class="grid gap-0.5"><span class="text-muted">Until</span><input v-model="until" type="date" required class="h-[29px] border border-rule bg-card px-2"></label>
    <BaseButton type="submit" :disabled="busy">{{ editing === 'vouch' ? 'Vouch for it' : 'Keep' }}</BaseButton><button type="button" class="plain-link pb-1.5" @click="editing = undefined">leave it</button>
    <ProblemBox v-if="problem" class="w-full" :problem="problem" />
  </form>
  <dl class="mt-2 grid grid-cols-[118px_minmax(0,1fr)] [&>*]:border-b [&>*]:border-hairline [&>*]:py-1.5 [&>dt]:text-muted">
    <dt>Vouched for</dt>
    <dd v-if="detail.vouched"><b :class="isPast ? 'text-rust' : 'text-kelp'">by {{ detail.vouched.who }} {{ isPast ? 'until it ran out on' : 'until' }} {{ dayText(detail.vouched.until) }}</b>: {{ detail.vouched.why }} <button class="plain-link text-muted" @click="edit('vouch')">renew</button> <button class="plain-link text-muted" :disabled="busy" @click="keep({ vouched: null })">take it back</button></dd>
    <dd v-else>by nobody <button class="plain-link text-muted" @click="edit('vouch')">vouch for it</button></dd>
    <dt>Owner</dt><dd>{{ detail.owner || 'nobody yet' }} <button class="plain-link text-muted" @click="edit('owner')">{{ detail.owner ? 'change' : 'name one' }}</button></dd>
    <dt>Tags</dt><dd><TagMark v-for="tag in detail.tags" :key="tag" class="mr-1">{{ tag }}</TagMark><button class="plain-link text-muted" @click="edit('tags')">{{ detail.tags.length > 0 ? 'change' : 'tag it' }}</button></dd>
  </dl>
</template>
