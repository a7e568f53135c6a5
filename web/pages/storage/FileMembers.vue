<script setup lang="ts">
/** What is in an archive, a spreadsheet or a database file; each is a file of its own. */
import { storageLink } from '../../api/client';
import type { FileLook } from '../../api/types';
import { bytesText } from '../../design/format';

const props = defineProps<{ storage: string; path: string; members: NonNullable<FileLook['members']> }>();
function linkTo(member: string) {
  const cut = member.lastIndexOf('/');
  return storageLink(props.storage, cut < 0 ? props.path : `${props.path}/${member.slice(0, cut)}`, member.slice(cut + 1));
}
</script>

<template>
  <table class="w-full max-w-[720px]" aria-label="What is in it">
    <thead><tr class="border-b border-ink text-left"><th class="py-1 font-semibold">Within</th><th class="font-semibold">Kind</th><th class="text-right font-semibold">Size</th></tr></thead>
    <tbody>
      <tr v-for="each in members" :key="each.path" class="border-b border-hairline">
        <td class="py-1"><RouterLink class="plain-link mono break-all" :to="linkTo(each.name)">{{ each.name }}</RouterLink></td>
        <td class="text-muted">{{ each.kind }}</td>
        <td class="mono text-right">{{ bytesText(each.bytes) }}</td>
      </tr>
    </tbody>
  </table>
</template>
