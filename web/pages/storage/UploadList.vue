<script setup lang="ts">
/** What is on its way into storage, with what went wrong and how to go on. */
import { computed } from 'vue';
import BaseButton from '../../design/BaseButton.vue';
import { bytesText, plural } from '../../design/format';
import ProgressBar from '../../design/ProgressBar.vue';
import { useUploads } from '../../stores/uploads';

const { items, retry, stop, clearDone, busy } = useUploads();
const done = computed(() => items.filter((item) => item.state === 'done').length);
const bytes = computed(() => items.reduce((sum, item) => sum + item.file.size, 0));
const WORDS = { waiting: 'waiting', sending: '', done: 'there', failed: 'failed', stopped: 'given up' };
</script>

<template>
  <section v-if="items.length > 0" class="mb-3 max-h-40 shrink-0 overflow-auto border border-rule bg-card px-3 py-2" aria-label="Uploads">
    <p class="flex items-center gap-3"><b>{{ done }} of {{ plural(items.length, 'file') }} uploaded</b><span class="text-muted">{{ bytesText(bytes) }}; a file shows in its folder when it is whole</span><BaseButton v-if="!busy" class="ml-auto" @click="clearDone">Clear</BaseButton></p>
    <ul>
      <li v-for="item in items" :key="item.key" class="flex items-center gap-3 border-t border-hairline py-0.5">
        <span class="mono min-w-0 flex-1 truncate" :title="item.path">{{ item.path }}</span>
        <span v-if="item.problem" class="min-w-0 flex-[2] truncate text-rust" :title="item.problem">{{ item.problem }}</span>
        <ProgressBar v-if="item.state === 'sending'" class="w-32" :done="item.sent" :total="item.file.size" /><span v-else class="text-muted">{{ WORDS[item.state] }}</span>
        <button v-if="item.state === 'failed'" class="plain-link" @click="retry(item, /already/.test(item.problem))">{{ /already/.test(item.problem) ? 'replace it' : 'go on' }}</button>
        <button v-if="item.state === 'sending' || item.state === 'waiting' || item.state === 'failed'" class="plain-link" @click="stop(item)">give up</button>
      </li>
    </ul>
  </section>
</template>
