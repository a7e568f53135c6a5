<script setup lang="ts">
/** Lines of a text table that do not fit how it is read. */
import { watch } from 'vue';
import { call, storageLink } from '../../api/client';
import type { Misfits } from '../../api/types';
import { countText, plural } from '../../design/format';
import LoadingLine from '../../design/LoadingLine.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import { useLoad } from '../../stores/load';

const props = defineProps<{ base: string; storage: string }>();
const misfits = useLoad(() => call<Misfits>(`${props.base}/misfits`));
watch(() => props.base, () => void misfits.reload(), { immediate: true });
const linkTo = (path: string) => storageLink(props.storage, path.split('/').slice(0, -1).join('/'), path.split('/').at(-1));
</script>

<template>
  <section class="flex min-h-0 flex-1 flex-col border border-rule bg-card" aria-label="Lines that do not fit">
    <ProblemBox v-if="misfits.problem.value" class="m-3" :problem="misfits.problem.value" can-retry @retry="misfits.reload" />
    <LoadingLine v-else-if="!misfits.value.value" what="every line" />
    <template v-for="now in misfits.value.value ? [misfits.value.value] : []" v-else :key="now.lines">
      <p class="px-3.5 py-2" :class="now.count > 0 ? 'text-rust' : 'text-kelp'">{{ countText(now.count) }} of {{ plural(now.lines, 'line') }} {{ now.count === 1 ? 'does' : 'do' }} not fit<template v-if="now.files < now.of">, in the first {{ now.files }} of {{ plural(now.of, 'file') }}</template>.</p>
      <div v-if="now.some.length > 0" class="min-h-0 overflow-auto border-t border-ink" tabindex="0" role="region" aria-label="The lines">
        <table class="w-full text-left"><thead class="sticky top-0 border-b border-ink bg-card"><tr><th class="px-3.5 py-1">File and line</th><th>Why</th><th>As it stands there</th></tr></thead>
          <tbody><tr v-for="(each, index) in now.some" :key="index" class="border-b border-hairline align-top"><td class="px-3.5 py-1 whitespace-nowrap"><RouterLink class="plain-link mono" :to="linkTo(each.path)">{{ each.path.split('/').at(-1) }}</RouterLink> <span class="text-muted">{{ each.line ?? '?' }}</span></td><td class="py-1 pr-4">{{ each.why }}</td><td class="mono py-1 break-all">{{ each.text.slice(0, 400) }}</td></tr></tbody>
        </table>
      </div>
    </template>
  </section>
</template>
