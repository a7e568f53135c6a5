<script setup lang="ts">
/** One level of a storage: folders first, then files. Only what is seen is drawn. */
import { useVirtualizer } from '@tanstack/vue-virtual';
import { computed, nextTick, ref, watch } from 'vue';
import { bytesText, timeText, utcText } from '../../design/format';
import type { FolderEntry } from '../../stores/storage';

const ROW = 29;
const props = defineProps<{ count: number; entryAt: (index: number) => FolderEntry | undefined; chosen: string; marked: readonly string[]; /** Whether entries may be marked, to be moved or removed. */ canMark: boolean; place: string; /** Whether a file belongs to the pattern above, when there is one. */ fits: ((name: string) => boolean) | undefined }>();
const emit = defineEmits<{ open: [entry: FolderEntry]; mark: [name: string] }>();
const scroller = ref<HTMLElement>();
const focused = ref(0);
const virtualizer = useVirtualizer(computed(() => ({ count: props.count, getScrollElement: () => scroller.value ?? null, estimateSize: () => ROW, overscan: 10 })));
watch(() => props.place, () => {
  focused.value = 0;
  if (scroller.value) scroller.value.scrollTop = 0;
});

async function move(by: number): Promise<void> {
  focused.value = Math.max(0, Math.min(props.count - 1, focused.value + by));
  virtualizer.value.scrollToIndex(focused.value);
  await nextTick();
  scroller.value?.querySelector<HTMLElement>(`[data-index="${focused.value}"]`)?.focus();
}
function choose(index: number): void {
  focused.value = index;
  const entry = props.entryAt(index);
  if (entry) emit('open', entry);
}
</script>

<template>
  <div class="grid min-h-0 grid-rows-[auto_minmax(0,1fr)]">
    <div class="grid grid-cols-[minmax(0,1fr)_64px_124px] gap-4 border-b border-ink py-1 pr-3 pl-[34px] font-semibold" aria-hidden="true">
      <span>Name</span><span class="text-right">Size</span><span>Modified</span>
    </div>
    <div ref="scroller" class="min-h-0 overflow-auto" tabindex="-1" @keydown.down.prevent="move(1)" @keydown.up.prevent="move(-1)">
      <ul class="relative" :style="{ height: `${virtualizer.getTotalSize()}px` }" aria-label="Folders and files">
        <li v-for="item in virtualizer.getVirtualItems()" :key="item.index" class="absolute flex w-full items-stretch border-b border-b-hairline" :style="{ transform: `translateY(${item.start}px)`, height: `${ROW}px` }">
          <span v-if="entryAt(item.index)" class="grid w-6 shrink-0 place-items-center pl-1.5"><input v-if="canMark" type="checkbox" class="size-3 accent-(--tide)" :checked="marked.includes(entryAt(item.index)!.name)" :aria-label="`Mark ${entryAt(item.index)!.name}`" tabindex="-1" @change="emit('mark', entryAt(item.index)!.name)"></span>
          <button
            v-if="entryAt(item.index)" :data-index="item.index" :tabindex="item.index === focused ? 0 : -1"
            class="grid h-full min-w-0 flex-1 grid-cols-[minmax(0,1fr)_64px_124px] items-center gap-4 border-l-[3px] px-2 text-left hover:bg-paper"
            :class="entryAt(item.index)!.name === chosen ? 'border-l-tide bg-tide-soft' : 'border-l-transparent'"
            :aria-current="entryAt(item.index)!.name === chosen ? 'true' : undefined" @click="choose(item.index)"
          >
            <template v-for="entry in [entryAt(item.index)!]" :key="entry.name">
              <span class="mono truncate" :class="entry.kind === 'file' && fits && !fits(entry.name) ? 'text-muted line-through' : ''" :title="entry.kind === 'file' && fits && !fits(entry.name) ? `${entry.name} does not match the pattern` : entry.name">{{ entry.name }}<span v-if="entry.kind === 'folder'" class="text-muted">/</span></span>
              <template v-if="entry.kind === 'file'">
                <span class="mono text-right">{{ bytesText(entry.bytes) }}</span>
                <span class="truncate text-muted" :title="utcText(entry.modified)">{{ timeText(entry.modified) }}</span>
              </template>
              <span v-else class="col-span-2 text-right text-muted">folder</span>
            </template>
          </button>
          <span v-else class="block px-3 py-1 text-muted">…</span>
        </li>
      </ul>
    </div>
  </div>
</template>
