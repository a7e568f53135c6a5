<script setup lang="ts">
/** What came of each statement of a script. */
import type { ScriptOutcome } from '../../api/define-types';
import type { QueryResult } from '../../api/types';
import { millisText, plural } from '../../design/format';

defineProps<{ script: ScriptOutcome; chosen: QueryResult | undefined }>();
defineEmits<{ choose: [result: QueryResult] }>();
const words = (result: QueryResult) => result.done ?? (result.written ? (result.written.version === null ? `no row of ${result.written.table} was concerned` : `version ${result.written.version} of ${result.written.table}`) : plural(result.rowCount, 'row'));
</script>

<template>
  <ol class="max-h-44 shrink-0 overflow-auto border border-rule bg-card" tabindex="0" aria-label="Statements that were run">
    <li v-for="(step, index) in script.steps" :key="index" class="border-b border-hairline last:border-b-0">
      <button v-if="step.result" class="grid w-full grid-cols-[24px_minmax(0,1fr)_minmax(0,1.4fr)_auto] items-baseline gap-2 px-3 py-1 text-left hover:bg-paper" :aria-pressed="step.result === chosen" :class="step.result === chosen ? 'bg-paper font-semibold' : ''" @click="$emit('choose', step.result)">
        <span class="mono text-muted">{{ index + 1 }}</span><span class="mono truncate">{{ step.sql.replace(/\s+/g, ' ') }}</span><span class="truncate" :title="words(step.result)">{{ words(step.result) }}</span><span class="mono text-muted">{{ millisText(step.result.receipt.totalMs) }}</span>
      </button>
      <p v-else class="grid grid-cols-[24px_minmax(0,1fr)_minmax(0,1.4fr)] items-baseline gap-2 px-3 py-1">
        <span class="mono text-rust">{{ index + 1 }}</span><span class="mono truncate">{{ step.sql.replace(/\s+/g, ' ') }}</span><span class="text-rust" role="alert">{{ step.problem!.message }} <span class="text-muted">{{ step.problem!.hint }}</span></span>
      </p>
    </li>
    <li v-if="script.left > 0" class="px-3 py-1 text-muted">{{ plural(script.left, 'statement') }} after it {{ script.left === 1 ? 'was' : 'were' }} not run.</li>
  </ol>
</template>
