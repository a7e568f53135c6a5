<script setup lang="ts">
/** Tokens for programs, and what an engine must be told to work on the same tables. */
import { computed, ref } from 'vue';
import { call } from '../../api/client';
import type { AccessRight, AccessToken, ConnectFacts } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import CopyText from '../../design/CopyText.vue';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import SelectField from '../../design/SelectField.vue';
import TagMark from '../../design/TagMark.vue';
import TextField from '../../design/TextField.vue';
import { timeText, utcText } from '../../design/format';
import PageFrame from '../../shell/PageFrame.vue';
import { useCatalog } from '../../stores/catalog';
import { useAct, useLoad } from '../../stores/load';
import ConnectPanel from './ConnectPanel.vue';

const catalog = useCatalog();
void catalog.refresh();
const tokens = useLoad(() => call<{ tokens: AccessToken[] }>('/access/tokens'));
const connect = useLoad(() => call<ConnectFacts>('/access/connect'));
void tokens.reload();
void connect.reload();

const name = ref('');
const days = ref('');
const grants = ref<{ on: string; right: AccessRight }[]>([{ on: '*', right: 'read' }]);
const issued = ref('');
const revoking = ref('');
const { busy, problem, run } = useAct();
const RIGHTS: { value: AccessRight; words: string }[] = [{ value: 'see', words: 'see' }, { value: 'read', words: 'see and read' }, { value: 'write', words: 'read and write' }, { value: 'manage', words: 'do everything with' }];
const places = computed(() => ['*', ...new Set(catalog.relations.map((each) => each.namespace)), ...catalog.relations.map((each) => `${each.namespace}.${each.name}`)]);
const DAY = 86_400_000;

async function issue(): Promise<void> {
  const expiresAt = Number(days.value) > 0 ? new Date(Date.now() + Number(days.value) * DAY).toISOString() : null;
  if (!(await run(async () => {
    issued.value = (await call<{ text: string }>('/access/tokens', { body: { name: name.value.trim(), grants: grants.value.map((each) => ({ ...each, on: each.on.trim() })), expiresAt } })).text;
  }))) return;
  name.value = '';
  await tokens.reload();
}
async function revoke(id: string): Promise<void> {
  if (!(await run(() => call(`/access/tokens/${id}`, { method: 'DELETE' })))) return;
  revoking.value = '';
  await tokens.reload();
}
const stateOf = (token: AccessToken) => (token.revokedAt !== null ? 'revoked' : token.expiresAt !== null && Date.parse(token.expiresAt) < Date.now() ? 'expired' : '');
const WORDS: Record<AccessRight, string> = { see: 'sees', read: 'reads', write: 'writes', manage: 'manages' };
const wordsOf = (token: AccessToken) => token.grants.map(({ on, right }) => `${WORDS[right]} ${on === '*' ? 'everything' : on}`).join(', ');
</script>

<template>
  <PageFrame :steps="[{ label: 'Access', to: '/access' }]">
    <template #title><h1>Access</h1><span class="text-muted">Programs come in with a token, and may do what it says.</span></template>
    <div class="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_430px] gap-3.5">
      <div class="flex min-h-0 flex-col gap-3.5">
        <section class="border border-rule bg-card px-4 py-3" aria-label="Issue a token">
          <h2>Issue a token</h2>
          <form class="mt-2 grid gap-2" @submit.prevent="issue">
            <div class="grid grid-cols-[minmax(0,1fr)_170px] gap-3"><TextField v-model="name" label="For which program" placeholder="nightly engine" required /><TextField v-model="days" label="Days until it expires" placeholder="never" /></div>
            <div v-for="(grant, index) in grants" :key="index" class="grid grid-cols-[170px_minmax(0,1fr)_auto] items-end gap-3">
              <SelectField v-model="grant.right" label="It may" :choices="RIGHTS" />
              <label class="grid min-w-0 gap-0.5"><span class="text-muted">a namespace, a table, or * for all</span><input v-model="grant.on" class="mono h-[29px] w-full border border-rule bg-card px-2" list="places" required></label>
              <BaseButton :disabled="grants.length === 1" @click="grants.splice(index, 1)">Take away</BaseButton>
            </div>
            <datalist id="places"><option v-for="each in places" :key="each" :value="each" /></datalist>
            <p class="flex gap-2.5"><BaseButton type="submit" look="strong" :disabled="busy || name.trim() === ''">Issue it</BaseButton><BaseButton @click="grants.push({ on: '', right: 'read' })">Another right</BaseButton></p>
          </form>
          <ProblemBox v-if="problem" class="mt-2" :problem="problem" />
          <div v-if="issued" class="mt-2 border border-kelp bg-kelp-soft px-3 py-2" role="status"><p><b>Copy it now:</b> it is shown this once and not stored.</p><p class="mt-1"><CopyText :text="issued" /></p></div>
        </section>
        <section class="min-h-0 flex-1 overflow-auto border border-rule bg-card" tabindex="0" aria-label="Tokens">
          <ProblemBox v-if="tokens.problem.value" class="m-2" :problem="tokens.problem.value" can-retry @retry="tokens.reload" />
          <LoadingLine v-else-if="!tokens.value.value" what="tokens" />
          <p v-else-if="tokens.value.value.tokens.length === 0" class="px-4 py-4 text-muted">No token yet. Issue one above, and give it to the program that is to come in.</p>
          <table v-else class="w-full text-left">
            <thead class="sticky top-0 border-b border-ink bg-card"><tr><th class="px-3 py-1.5">Token</th><th>May</th><th>Made</th><th>Expires</th><th>Last used</th><th><span class="sr-only">Revoke</span></th></tr></thead>
            <tbody>
              <template v-for="each in tokens.value.value.tokens" :key="each.id">
                <tr class="border-b border-hairline align-top" :class="stateOf(each) ? 'text-muted' : ''">
                  <td class="px-3 py-1.5"><b>{{ each.name }}</b> <TagMark v-if="stateOf(each)" tone="rust">{{ stateOf(each) }}</TagMark><span class="mono block text-small text-muted">{{ each.id }}</span></td>
                  <td class="py-1.5 pr-3">{{ wordsOf(each) }}</td>
                  <td class="py-1.5 pr-3 whitespace-nowrap" :title="utcText(each.createdAt)">{{ timeText(each.createdAt) }}<span class="block text-small text-muted">{{ each.createdBy }}</span></td>
                  <td class="py-1.5 pr-3 whitespace-nowrap">{{ each.expiresAt === null ? 'never' : timeText(each.expiresAt) }}</td>
                  <td class="py-1.5 pr-3 whitespace-nowrap">{{ each.lastUsed === null ? 'not yet' : timeText(each.lastUsed) }}</td>
                  <td class="py-1.5 pr-3 text-right"><button v-if="!stateOf(each)" class="plain-link" @click="revoking = each.id">Revoke…</button></td>
                </tr>
                <tr v-if="revoking === each.id" class="border-b border-rule bg-paper"><td colspan="6" class="px-3 py-2"><p class="flex items-center gap-2.5">Programs with this token are shut out at once, for good. <BaseButton look="danger" :disabled="busy" @click="revoke(each.id)">Revoke {{ each.name }}</BaseButton><BaseButton @click="revoking = ''">Leave it</BaseButton></p></td></tr>
              </template>
            </tbody>
          </table>
        </section>
      </div>
      <ConnectPanel v-if="connect.value.value" :facts="connect.value.value" :issued="issued" @tried="tokens.reload" />
      <ProblemBox v-else-if="connect.problem.value" :problem="connect.problem.value" can-retry @retry="connect.reload" />
    </div>
  </PageFrame>
</template>
