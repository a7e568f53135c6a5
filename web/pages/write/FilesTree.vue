<script setup lang="ts">
/** Folders and their files, each as wide as its bytes, so that what is uneven is seen. */
import { scaleLinear } from 'd3';
import { computed, ref } from 'vue';
import type { ForecastFolder } from '../../../core/write/forecast';
import { bytesText, countText, plural } from '../../design/format';

const props = withDefaults(defineProps<{ folders: readonly ForecastFolder[]; folderCount: number; root: string; width?: number }>(), { width: 260 });
const open = ref(new Set<string>());
const x = computed(() => scaleLinear([0, Math.max(1, ...props.folders.map((each) => each.bytes))], [0, props.width]));
const segments = computed(() => props.folders.map(({ files, bytes }) => {
  let at = 0;
  const shown = files.map((file) => {
    const from = x.value(at);
    at += file.bytes;
    return { ...file, from, width: Math.max(0.6, x.value(at) - from - 1) };
  });
  return { shown, rest: at < bytes ? { from: x.value(at), width: Math.max(0, x.value(bytes) - x.value(at)) } : undefined };
}));
function toggle(path: string): void {
  if (!open.value.delete(path)) open.value.add(path);
}
</script>

<template>
  <table class="w-full text-left">
    <thead><tr class="border-b border-ink"><th class="py-1">Folder</th><th class="text-right">Files</th><th class="text-right">Rows</th><th class="text-right">Size</th><th class="pl-3" :style="{ width: `${width + 12}px` }">{{ width < 200 ? 'Each file' : 'Each file, as wide as it is large' }}</th></tr></thead>
    <tbody v-for="(folder, index) in folders" :key="folder.path" class="border-b border-hairline">
      <tr>
        <td class="py-0.5"><button type="button" class="mono text-left hover:text-tide" :aria-expanded="open.has(folder.path)" @click="toggle(folder.path)"><span aria-hidden="true" class="mr-1 inline-block w-2">{{ open.has(folder.path) ? '–' : '+' }}</span>{{ folder.path === '' ? root : folder.path }}</button></td>
        <td class="mono text-right">{{ countText(folder.fileCount) }}</td><td class="mono text-right">{{ countText(folder.rows) }}</td><td class="mono text-right">{{ bytesText(folder.bytes) }}</td>
        <td class="pl-3">
          <svg :width="width" height="14" role="img" :aria-label="`${plural(folder.fileCount, 'file')}, ${bytesText(folder.bytes)}`">
            <rect v-for="file in segments[index]!.shown" :key="file.name" :x="file.from" y="2" :width="file.width" height="10" class="fill-tide"><title>{{ file.name }}: {{ plural(file.rows, 'row') }}, {{ bytesText(file.bytes) }}</title></rect>
            <rect v-if="segments[index]!.rest" :x="segments[index]!.rest!.from" y="2" :width="segments[index]!.rest!.width" height="10" class="fill-tide-soft"><title>{{ folder.fileCount - folder.files.length }} more files</title></rect>
          </svg>
        </td>
      </tr>
      <template v-if="open.has(folder.path)">
        <tr v-for="file in folder.files" :key="file.name" class="text-muted"><td class="mono py-px pl-6">{{ file.name }}</td><td /><td class="mono text-right">{{ countText(file.rows) }}</td><td class="mono text-right">{{ bytesText(file.bytes) }}</td><td /></tr>
        <tr v-if="folder.files.length < folder.fileCount" class="text-muted"><td class="py-px pl-6" colspan="5">and {{ countText(folder.fileCount - folder.files.length) }} more</td></tr>
      </template>
    </tbody>
  </table>
  <p v-if="folders.length < folderCount" class="mt-1 text-muted">and {{ countText(folderCount - folders.length) }} more folders</p>
</template>
