<script setup lang="ts">
/** The connected storages, and what it takes to connect another. */
import { ref } from 'vue';
import { call, storageLink } from '../../api/client';
import type { StorageName } from '../../api/types';
import EmptyState from '../../design/EmptyState.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import { useAct } from '../../stores/load';
import CheckSteps from './CheckSteps.vue';
import ConnectBucket from './ConnectBucket.vue';
import ConnectDatabase from './ConnectDatabase.vue';
import ConnectFolder from './ConnectFolder.vue';

defineProps<{ storages: readonly StorageName[] }>();
const emit = defineEmits<{ connected: [name: string]; changed: [] }>();
const connecting = ref<StorageName['kind']>('folder');
const CHOICES: { kind: StorageName['kind']; words: string }[] = [{ kind: 'folder', words: 'a folder of this machine' }, { kind: 's3', words: 'an S3-compatible bucket' }, { kind: 'postgres', words: 'a PostgreSQL database' }];
function kindWords({ kind, settings, keys }: StorageName): string {
  if (kind === 'folder') return 'a local folder';
  if (kind === 'postgres') return `a PostgreSQL database, read as ${settings?.user ?? ''}`;
  return `an object store at ${settings?.endpoint ?? ''}, ${keys ? keyWords[keys] : ''}`;
}
const checking = ref('');
const { busy, problem, run } = useAct();
async function disconnect(name: string): Promise<void> {
  if (await run(() => call(`/storages/${encodeURIComponent(name)}`, { method: 'DELETE' }))) emit('changed');
}
const keyWords = { stored: 'keys stored, sealed', environment: "keys of the server's environment" };
</script>

<template>
  <div class="grid max-w-4xl content-start gap-3 overflow-auto">
    <EmptyState v-if="storages.length === 0" title="No storage is connected">Name a folder of this machine or a bucket below. Its files are read where they are; connecting changes nothing in it.</EmptyState>
    <ul v-else class="border border-rule bg-card" aria-label="Storages">
      <li v-for="each in storages" :key="each.name" class="border-b border-hairline px-4 py-2 last:border-b-0">
        <div class="flex items-baseline gap-3">
          <RouterLink class="font-semibold hover:underline" :to="storageLink(each.name)">{{ each.name }}</RouterLink>
          <span class="text-muted">{{ kindWords(each) }}</span>
          <span class="ml-auto flex shrink-0 gap-3">
            <button class="plain-link" :aria-expanded="checking === each.name" @click="checking = checking === each.name ? '' : each.name">check</button>
            <button class="plain-link" :disabled="busy" @click="disconnect(each.name)">disconnect</button>
            <RouterLink class="plain-link" :to="storageLink(each.name)">look inside</RouterLink>
          </span>
        </div>
        <p class="mono text-muted">{{ each.location }}</p>
        <CheckSteps v-if="checking === each.name" :path="`/storages/${encodeURIComponent(each.name)}/check`" :body="{}" />
      </li>
    </ul>
    <ProblemBox v-if="problem" :problem="problem" />
    <section class="border border-rule bg-card px-4 py-3" aria-label="Connect a storage">
      <header class="mb-2 flex items-baseline gap-4"><h2>Connect</h2>
        <span role="radiogroup" aria-label="Kind of storage" class="flex gap-4"><label v-for="choice in CHOICES" :key="choice.kind" class="flex items-center gap-1.5"><input v-model="connecting" type="radio" :value="choice.kind" class="accent-(--tide)">{{ choice.words }}</label></span>
      </header>
      <ConnectFolder v-if="connecting === 'folder'" :first="storages.length === 0" @connected="(name) => emit('connected', name)" />
      <ConnectDatabase v-else-if="connecting === 'postgres'" @connected="(name) => emit('connected', name)" />
      <ConnectBucket v-else @connected="(name) => emit('connected', name)" />
    </section>
  </div>
</template>
