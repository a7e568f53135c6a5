<script setup lang="ts">
/** Properties of a table with their meaning, each to be set. */
import { computed, ref } from 'vue';
import { call } from '../../api/client';
import type { TableProperty } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import { useAct } from '../../stores/load';

const props = defineProps<{
  properties: TableProperty[];
  /** Where they are set. */
  path: string;
  /** Whether the page shows the past, and what now is called. */
  past: boolean;
  now: string;
}>();
const emit = defineEmits<{ set: [] }>();
const editing = ref('');
const value = ref('');
const { busy, problem, run } = useAct();
const choices = computed(() => {
  const form = props.properties.find((each) => each.name === editing.value)?.form;
  return form === 'true or false' ? ['true', 'false'] : Array.isArray(form) ? (form as string[]) : undefined;
});
function edit(property: TableProperty): void {
  editing.value = property.name;
  value.value = property.value ?? property.standard;
  problem.value = undefined;
}
async function set(to: string | null): Promise<void> {
  if (!(await run(() => call(props.path, { method: 'PUT', body: { properties: { [editing.value]: to } } })))) return;
  editing.value = '';
  emit('set');
}
</script>

<template>
  <section class="min-h-0 overflow-auto border border-rule bg-card" tabindex="0" aria-label="Properties">
    <p v-if="past" class="border-b border-hairline px-3 py-1.5 text-muted">These are the properties of {{ now }}; only they can be set.</p>
    <table class="w-full text-left">
      <thead class="sticky top-0 border-b border-ink bg-card"><tr><th class="px-3 py-1.5">Property</th><th>Value</th><th>What it does</th><th><span class="sr-only">Set</span></th></tr></thead>
      <tbody>
        <template v-for="each in properties" :key="each.name">
          <tr class="border-b border-hairline align-top">
            <td class="mono px-3 py-1.5 whitespace-nowrap">{{ each.name }}</td>
            <td class="mono max-w-[150px] py-1.5 pr-3 break-words" :class="each.value === null ? 'text-muted' : 'font-semibold'">{{ each.value ?? each.standard }}<span v-if="each.value === null" class="sr-only"> (not set)</span></td>
            <td class="py-1.5 pr-3">{{ each.means }}</td>
            <td class="py-1 pr-3 text-right"><button v-if="each.form !== 'text' && editing !== each.name" class="plain-link" @click="edit(each)">Set…</button></td>
          </tr>
          <tr v-if="editing === each.name" class="border-b border-rule bg-paper">
            <td colspan="4" class="px-3 py-2">
              <form class="flex flex-wrap items-center gap-2.5" @submit.prevent="set(value)" @keydown.esc="editing = ''">
                <label class="flex items-center gap-2"><span class="mono">{{ each.name }}</span>
                  <select v-if="choices" v-model="value" class="h-[29px] border border-rule bg-card px-1.5"><option v-for="choice in choices" :key="choice">{{ choice }}</option></select>
                  <input v-else v-model="value" class="mono h-[29px] w-56 border border-rule bg-card px-2" :aria-label="each.name">
                </label>
                <BaseButton look="strong" type="submit" :disabled="busy">Set it in a new version</BaseButton>
                <BaseButton v-if="each.value !== null" :disabled="busy" @click="set(null)">Take it away</BaseButton>
                <BaseButton @click="editing = ''">Leave it</BaseButton>
                <span v-if="!choices" class="text-muted">{{ each.form }}</span>
              </form>
              <ProblemBox v-if="problem" class="mt-2" :problem="problem" />
            </td>
          </tr>
        </template>
      </tbody>
    </table>
  </section>
</template>
