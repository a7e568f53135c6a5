<script setup lang="ts">
import { computed } from 'vue';
import { useRoute } from 'vue-router';
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue';
import { useSession } from '../stores/session';
import FindBox from './FindBox.vue';
import HarborMark from './HarborMark.vue';

const places = [
  { name: 'Storage', to: '/storage' },
  { name: 'Crawls', to: '/crawls' },
  { name: 'Catalog', to: '/catalog' },
  { name: 'Query', to: '/query' },
  { name: 'Access', to: '/access' },
];
const route = useRoute();
const session = useSession();
const initials = computed(() => session.person.split(/[\s._-]+/).filter(Boolean).map((word) => word[0]!.toUpperCase()).slice(0, 2).join('') || '·');
</script>

<template>
  <header class="flex items-stretch gap-5 border-b border-ink bg-card px-[18px]">
    <RouterLink to="/storage" class="flex items-center gap-2.5" aria-label="Kind Harbor, to storage">
      <HarborMark />
      <span class="font-name text-[18px] font-semibold">Kind Harbor</span>
    </RouterLink>
    <nav class="flex items-stretch" aria-label="Places">
      <RouterLink
        v-for="place in places" :key="place.name" :to="place.to"
        class="flex items-center border-x px-2.5"
        :class="route.meta.place === place.name ? 'border-rule bg-paper font-semibold' : 'border-transparent text-muted hover:text-ink'"
        :aria-current="route.meta.place === place.name ? 'page' : undefined"
      >{{ place.name }}</RouterLink>
    </nav>
    <div class="ml-auto flex items-center gap-5">
      <FindBox />
      <Menu as="div" class="relative">
        <MenuButton class="grid size-[26px] place-items-center border border-rule text-tiny font-bold" :aria-label="`${session.person || 'Person'}, settings`">{{ initials }}</MenuButton>
        <MenuItems class="absolute right-0 z-30 mt-1 w-52 border border-ink bg-card py-1">
          <p class="border-b border-hairline px-3 pb-1.5 text-muted">Working as <b class="text-ink">{{ session.person }}</b></p>
          <MenuItem v-slot="{ active }">
            <button class="block w-full px-3 py-1.5 text-left" :class="active ? 'bg-tide-soft' : ''" @click="session.setTheme(session.theme === 'dark' ? 'light' : 'dark')">
              {{ session.theme === 'dark' ? 'Light pages' : 'Dark pages' }}
            </button>
          </MenuItem>
          <MenuItem v-slot="{ active }">
            <a class="block px-3 py-1.5" :class="active ? 'bg-tide-soft' : ''" href="/api/docs/">Read the API</a>
          </MenuItem>
        </MenuItems>
      </Menu>
    </div>
  </header>
</template>
