<script setup lang="ts">
/** Where one is: starts with the place; a step with siblings opens them. */
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue';

export interface PathStep {
  label: string;
  to?: string;
  siblings?: { label: string; to: string }[];
  past?: boolean;
}
defineProps<{ steps: PathStep[] }>();
</script>

<template>
  <nav class="flex min-h-[33px] flex-wrap items-center gap-x-2 text-muted" aria-label="Path">
    <template v-for="(step, index) in steps" :key="index">
      <span v-if="index > 0" aria-hidden="true">/</span>
      <Menu v-if="step.siblings && step.siblings.length > 1" as="div" class="relative">
        <MenuButton class="hover:text-ink" :class="index === steps.length - 1 ? 'font-semibold text-ink' : ''">{{ step.label }}<span aria-hidden="true" class="ml-0.5 text-tiny text-muted">▾</span></MenuButton>
        <MenuItems class="absolute z-30 mt-1 max-h-[50vh] min-w-44 overflow-auto border border-ink bg-card py-1 text-ink">
          <MenuItem v-for="sibling in step.siblings" :key="sibling.to" v-slot="{ active }">
            <RouterLink :to="sibling.to" class="block px-3 py-1 whitespace-nowrap" :class="[active ? 'bg-tide-soft' : '', sibling.label === step.label ? 'font-semibold' : '']">{{ sibling.label }}</RouterLink>
          </MenuItem>
        </MenuItems>
      </Menu>
      <RouterLink v-else-if="step.to && index < steps.length - 1" :to="step.to" class="hover:text-ink">{{ step.label }}</RouterLink>
      <span v-else class="font-semibold" :class="step.past ? 'text-brass' : 'text-ink'" :aria-current="index === steps.length - 1 ? 'page' : undefined">{{ step.label }}</span>
    </template>
  </nav>
</template>
