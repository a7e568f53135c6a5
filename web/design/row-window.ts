/** Long lists begin with their first rows; the rest comes when it is asked for, in steps. */
import { computed, ref, type Ref } from 'vue';

const STEP = 300;

export function useRowWindow<T>(rows: Readonly<Ref<readonly T[]>>) {
  const most = ref(STEP);
  return {
    shown: computed(() => rows.value.slice(0, most.value)),
    more: { count: computed(() => Math.max(0, rows.value.length - most.value)), show: () => (most.value += STEP * 4) },
  };
}
