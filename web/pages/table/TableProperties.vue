<script setup lang="ts">
/** What a Delta table asks of its readers and writers, and its properties with their meaning, to be set. */
import { computed, ref } from 'vue';
import { call } from '../../api/client';
import type { DeltaProperty, DeltaProtocol } from '../../api/types';
import BaseButton from '../../design/BaseButton.vue';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import TagMark from '../../design/TagMark.vue';
import { useAct, useLoad } from '../../stores/load';

const props = defineProps<{ base: string; past: boolean }>();
const protocol = useLoad(() => call<DeltaProtocol>(`${props.base}/delta`));
void protocol.reload();
const editing = ref('');
const value = ref('');
const { busy, problem, run } = useAct();
const choices = computed(() => {
  const form = protocol.value.value?.properties.find((each) => each.name === editing.value)?.form;
  return form === 'true or false' ? ['true', 'false'] : Array.isArray(form) ? (form as string[]) : undefined;
});
function edit(property: DeltaProperty): void {
  editing.value = property.name;
  value.value = property.value ?? property.standard;
  problem.value = undefined;
}
async function set(to: string | null): Promise<void> {
  if (!(await run(() => call(`${props.base}/delta/properties`, { method: 'PUT', body: { properties: { [editing.value]: to } } })))) return;
  editing.value = '';
  await protocol.reload();
}
const rules = computed(() => {
  const { required = [], conditions = [], generated = [], defaults = [] } = protocol.value.value?.rules ?? {};
  return [
    ...required.map((name) => ({ name, text: 'must have a value' })), ...conditions.map(({ name, sql }) => ({ name, text: sql })),
    ...generated.map(({ column, sql }) => ({ name: column, text: `is always ${sql}` })), ...defaults.map(({ column, sql }) => ({ name: column, text: `is ${sql} when not given` })),
  ];
});
</script>

<template>
  <ProblemBox v-if="protocol.problem.value" :problem="protocol.problem.value" can-retry @retry="protocol.reload" />
  <LoadingLine v-else-if="!protocol.value.value" what="properties" />
  <div v-else class="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_300px] gap-3.5">
    <section class="min-h-0 overflow-auto border border-rule bg-card" tabindex="0" aria-label="Properties">
      <p v-if="past" class="border-b border-hairline px-3 py-1.5 text-muted">These are the properties of now, version {{ protocol.value.value.version }}; only they can be set.</p>
      <table class="w-full text-left">
        <thead class="sticky top-0 border-b border-ink bg-card"><tr><th class="px-3 py-1.5">Property</th><th>Value</th><th>What it does</th><th></th></tr></thead>
        <tbody>
          <template v-for="each in protocol.value.value.properties" :key="each.name">
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
    <aside class="min-h-0 overflow-auto border border-rule bg-card px-4 py-3" tabindex="0" aria-label="Protocol">
      <h2>What readers and writers must know</h2>
      <p class="mt-1">Reader version {{ protocol.value.value.readerVersion }}, writer version {{ protocol.value.value.writerVersion }}.</p>
      <dl class="mt-2">
        <template v-for="each in protocol.value.value.features" :key="each.name">
          <dt class="mt-2 flex flex-wrap items-center gap-1.5"><span class="mono font-semibold">{{ each.name }}</span><TagMark v-if="each.forReaders">readers too</TagMark><TagMark v-if="each.write === 'no'" tone="rust">not written here</TagMark></dt>
          <dd class="text-muted">{{ each.means }}</dd>
        </template>
      </dl>
      <template v-if="rules.length > 0">
        <h2 class="mt-5">Rules for new rows</h2>
        <dl class="mt-1"><template v-for="each in rules" :key="`${each.name} ${each.text}`"><dt class="mono mt-1.5 font-semibold">{{ each.name }}</dt><dd class="mono text-muted">{{ each.text }}</dd></template></dl>
      </template>
      <template v-if="protocol.value.value.applications.length > 0">
        <h2 class="mt-5">Applications that write</h2>
        <p v-for="each in protocol.value.value.applications" :key="each.name" class="mt-1"><span class="mono">{{ each.name }}</span>, last {{ each.version }}</p>
      </template>
    </aside>
  </div>
</template>
