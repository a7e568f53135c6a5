<script setup lang="ts">
/** What an engine must be told, in the protocol's own property names, and a try of it with a client library. */
import { computed, ref, watch } from 'vue';
import type { ConnectFacts } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import SelectField from '../../design/SelectField.vue';
import TextField from '../../design/TextField.vue';
import { plural } from '../../design/format';
import { tryCatalog, type TryStep } from './try-catalog';

const props = defineProps<{ facts: ConnectFacts; issued: string }>();
const emit = defineEmits<{ tried: [] }>();
const token = ref('');
const way = ref<'token' | 'credential'>('token');
const warehouse = ref('');
const copied = ref(false);
watch(() => props.issued, (text) => (token.value = text), { immediate: true });
const address = computed(() => `${location.origin}${props.facts.path}`);
const credential = computed(() => {
  const [, id = '<id>', secret = '<secret>'] = /^kh_([^_]+)_(.+)$/.exec(token.value.trim()) ?? [];
  return `${id}:${secret}`;
});
const isInStore = computed(() => props.facts.warehouses.find((each) => each.name === warehouse.value)?.kind === 's3');
const text = computed(() => [
  'type=rest', `uri=${address.value}`,
  ...(way.value === 'token' ? [`token=${token.value.trim() || '<token>'}`] : [`credential=${credential.value}`, `oauth2-server-uri=${location.origin}${props.facts.tokenPath}`, 'scope=catalog']),
  ...(warehouse.value === '' ? [] : [`warehouse=${warehouse.value}`]), ...(isInStore.value ? ['header.X-Iceberg-Access-Delegation=vended-credentials'] : []),
].join('\n'));
async function copy(): Promise<void> {
  await navigator.clipboard.writeText(text.value).catch(() => undefined);
  copied.value = true;
  setTimeout(() => (copied.value = false), 1200);
}
const steps = ref<TryStep[]>([]);
const trying = ref(false);
async function tryIt(): Promise<void> {
  steps.value = [];
  trying.value = true;
  for await (const step of tryCatalog(address.value, token.value.trim(), warehouse.value)) steps.value = [...steps.value, step];
  trying.value = false;
  emit('tried');
}
</script>

<template>
  <section class="min-h-0 overflow-auto border border-rule bg-card px-4 py-3" tabindex="0" aria-label="Connect an engine">
    <h2>Connect an engine</h2>
    <p class="mt-1">Any engine that speaks the Iceberg REST catalog protocol works on the same tables at the same time; this catalog decides which commit comes first. Give it these properties:</p>
    <div class="mt-2 grid grid-cols-2 gap-3">
      <SelectField v-model="way" label="It comes in with" :choices="[{ value: 'token', words: 'the token itself' }, { value: 'credential', words: 'client credentials' }]" />
      <SelectField v-model="warehouse" label="New tables go to" :choices="[{ value: '', words: 'where their namespace is' }, ...facts.warehouses.map((each) => ({ value: each.name, words: each.name }))]" />
    </div>
    <div class="mt-2"><TextField v-model="token" label="Token" mono placeholder="issue one, or paste it here" /></div>
    <pre class="mono mt-2 border border-rule bg-paper px-3 py-2 break-all whitespace-pre-wrap" aria-label="Properties to set">{{ text }}</pre>
    <p class="mt-2 flex items-center gap-2.5"><BaseButton @click="copy">{{ copied ? 'Copied' : 'Copy' }}</BaseButton><BaseButton look="strong" :disabled="trying || token.trim() === ''" @click="tryIt">{{ trying ? 'Trying …' : 'Try it' }}</BaseButton><span class="text-muted">with a client library, from this page</span></p>
    <ol v-if="steps.length > 0" class="mt-2 border border-rule" role="status" aria-label="What came of it">
      <li v-for="step in steps" :key="step.what" class="flex gap-3 border-b border-hairline px-3 py-1.5 last:border-b-0"><b class="w-14 shrink-0" :class="step.isGood ? 'text-kelp' : 'text-rust'">{{ step.isGood ? 'Good' : 'Failed' }}</b><span class="min-w-0"><span class="font-semibold">{{ step.what }}</span><span class="block break-words text-muted">{{ step.words }}</span></span></li>
    </ol>
    <h2 class="mt-5">What clients must know</h2>
    <ul class="mt-1 grid gap-1.5">
      <li>Files of a folder storage are named <span class="mono">file://…</span>: the engine must run on this machine, or see the folder under the same path.</li>
      <li>For an object store the catalog gives keys for an hour that reach one table's files alone, where the engine asks for them.</li>
      <li>{{ plural(facts.endpoints.length, 'endpoint') }} are served; <span class="mono">GET {{ facts.path }}/v1/config</span> lists them. Views too, and several tables in one step.</li>
      <li>A request that is sent again with the same <span class="mono">Idempotency-Key</span> within an hour is answered again, not done again.</li>
    </ul>
  </section>
</template>
