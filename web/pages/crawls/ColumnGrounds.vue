<script setup lang="ts">
/** Why each column of a text has its type, and what else it could be, each a click away. */
import { computed, ref } from 'vue';
import { call } from '../../api/client';
import type { OtherWay } from '../../../core/text/column-forms';
import type { Finding } from '../../api/types';
import ProblemBox from '../../design/ProblemBox.vue';
import { useAct } from '../../stores/load';
import { groundsOf } from './column-grounds';

const props = defineProps<{ finding: Finding }>();
const emit = defineEmits<{ changed: [] }>();
const showsAll = ref(false);
const grounds = computed(() => groundsOf(props.finding));
const shown = computed(() => (showsAll.value ? grounds.value.all : grounds.value.telling));
const isOpen = computed(() => !['registered', 'unregistered'].includes(props.finding.decision));
const { busy, problem, run } = useAct();

async function take(column: string, { type, form, misfits }: Pick<OtherWay, 'type' | 'form' | 'misfits'>): Promise<void> {
  const columns = [{ name: column, type, ...(form ? { form } : {}), ...(misfits > 0 ? { setAside: true } : {}) }];
  if (await run(() => call(`/findings/${props.finding.id}/correct`, { body: { columns } }))) emit('changed');
}
</script>

<template>
  <section v-if="grounds.all.length > 0" aria-label="Why each column has its type">
    <h3 class="mt-2.5 flex items-baseline gap-3 font-semibold">Why each column has its type
      <button v-if="grounds.all.length > grounds.telling.length" class="plain-link ml-auto font-normal" :aria-expanded="showsAll" @click="showsAll = !showsAll">{{ showsAll ? 'only the less certain' : `all ${grounds.all.length}` }}</button>
    </h3>
    <p v-if="shown.length === 0" class="text-muted">Every value of every column fits its type, and there is no other way to read them.</p>
    <div v-for="each in shown" :key="each.name" class="mt-1.5 border-l-2 pl-2" :class="each.isAmbiguous ? 'border-dusk' : 'border-hairline'">
      <p><span class="mono font-semibold">{{ each.name }}</span> <span class="mono text-muted">{{ each.type }}</span></p>
      <p class="break-words text-muted">{{ each.why }}.</p>
      <p v-if="isOpen && each.choices.length > 0" class="flex flex-wrap gap-x-3">
        <button v-for="choice in each.choices" :key="choice.label" class="plain-link" :disabled="busy" @click="take(each.name, choice)">{{ choice.label }}<template v-if="choice.misfits > 0"> ({{ choice.misfits }})</template></button>
      </p>
    </div>
    <ProblemBox v-if="problem" class="mt-2" :problem="problem" />
  </section>
</template>
