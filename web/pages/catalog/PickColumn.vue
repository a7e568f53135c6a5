<script setup lang="ts" generic="T">
/** One column of the catalog: a filter, and a list that is walked with the arrow keys. */
import { computed, nextTick, ref } from 'vue';
import FilterInput from '../../design/FilterInput.vue';

const props = defineProps<{ title: string; items: readonly T[]; nameOf: (item: T) => string; chosen: string; filterLabel: string }>();
const emit = defineEmits<{ choose: [item: T]; back: [] }>();
const filter = ref('');
const list = ref<HTMLElement>();
const shown = computed(() => props.items.filter((item) => props.nameOf(item).toLowerCase().includes(filter.value.trim().toLowerCase())));
const chosenIndex = computed(() => shown.value.findIndex((item) => props.nameOf(item).toLowerCase() === props.chosen.toLowerCase()));

async function move(by: number): Promise<void> {
  const next = Math.max(0, Math.min(shown.value.length - 1, Math.max(0, chosenIndex.value) + by));
  const item = shown.value[next];
  if (!item) return;
  emit('choose', item);
  await nextTick();
  list.value?.querySelectorAll<HTMLElement>('[data-item]')[next]?.focus();
}
function enterNext(event: KeyboardEvent): void {
  const column = (event.currentTarget as HTMLElement).closest('[data-column]');
  const step = event.key === 'ArrowRight' ? column?.nextElementSibling : column?.previousElementSibling;
  step?.querySelector<HTMLElement>('[data-item][tabindex="0"]')?.focus();
}
</script>

<template>
  <section class="grid min-h-0 min-w-0 grid-rows-[auto_minmax(0,1fr)] border-r border-rule" data-column :aria-label="title">
    <header class="flex h-[34px] items-center justify-between gap-2 border-b border-ink px-3 font-semibold"><span class="truncate">{{ title }}</span><FilterInput v-if="items.length > 4" v-model="filter" :label="filterLabel" class="max-w-20 font-normal" /></header>
    <div ref="list" class="min-h-0 overflow-auto" @keydown.down.prevent="move(1)" @keydown.up.prevent="move(-1)" @keydown.right.prevent="enterNext" @keydown.left.prevent="enterNext">
      <button
        v-for="(item, index) in shown" :key="nameOf(item)" data-item :tabindex="index === Math.max(0, chosenIndex) ? 0 : -1"
        class="block w-full border-r-[3px] border-b border-b-hairline px-3 py-1.5 text-left hover:bg-paper" :class="index === chosenIndex ? 'border-r-tide bg-tide-soft' : 'border-r-transparent'"
        :aria-current="index === chosenIndex ? 'true' : undefined" @click="emit('choose', item)"
      >
        <slot :item="item"></slot>
      </button>
      <p v-if="shown.length === 0" class="px-3 py-2 text-muted">{{ filter ? `None has “${filter}” in its name.` : 'Nothing here yet.' }}</p>
    </div>
  </section>
</template>
