/** The query page's state: the text, what it would read, a run that can be cancelled, its result. */
import { useDebounceFn } from '@vueuse/core';
import { computed, onScopeDispose, ref, shallowRef, watch, type Ref } from 'vue';
import { splitStatements } from '../../../core/sql/script';
import { call, type Problem } from '../../api/client';
import type { ScriptOutcome } from '../../api/define-types';
import type { QueryResult, ReadMap, Receipt } from '../../api/types';
import { asProblem } from '../../stores/load';

/** So many rows are kept for scrolling. */
export const KEPT_ROWS = 200_000;

export function useQuery(sql: Ref<string>) {
  const maps = shallowRef<ReadMap[]>();
  /** What a definition would do; how many statements there are. */
  const does = shallowRef<string[]>([]);
  const count = computed(() => splitStatements(sql.value).length);
  const planProblem = shallowRef<Problem>();
  const stale = ref(false);
  let planning: AbortController | undefined;

  async function plan(): Promise<void> {
    planning?.abort();
    if (sql.value.trim() === '') {
      maps.value = planProblem.value = undefined;
      does.value = [];
      stale.value = false;
      return;
    }
    if (count.value > 1) {
      maps.value = [];
      planProblem.value = undefined;
      does.value = [`${count.value} statements are run one after the other. One that fails stops those after it; what was done before it stays.`];
      stale.value = false;
      return;
    }
    const mine = (planning = new AbortController());
    try {
      const answer = await call<{ tables: ReadMap[]; does: string[] }>('/query/plan', { body: { sql: sql.value }, signal: mine.signal });
      if (planning !== mine) return;
      maps.value = answer.tables;
      does.value = answer.does;
      planProblem.value = undefined;
    } catch (error) {
      if (planning !== mine || mine.signal.aborted) return;
      planProblem.value = asProblem(error);
    }
    stale.value = false;
  }
  const planSoon = useDebounceFn(plan, 250);
  watch(sql, () => {
    stale.value = true;
    void planSoon();
  }, { immediate: true });

  const running = shallowRef<{ id: string; since: number }>();
  const elapsed = ref(0);
  const result = shallowRef<QueryResult>();
  const script = shallowRef<ScriptOutcome>();
  const fromReceipt = ref(false);
  const problem = shallowRef<Problem>();
  const timer = setInterval(() => (elapsed.value = running.value ? Date.now() - running.value.since : 0), 100);
  onScopeDispose(() => clearInterval(timer));

  async function execute(path: string, body: Record<string, unknown>, isAgain: boolean): Promise<void> {
    if (running.value) return;
    const id = crypto.randomUUID();
    running.value = { id, since: Date.now() };
    problem.value = undefined;
    try {
      const answer = await call<QueryResult | ScriptOutcome>(path, { body: { ...body, id, keep: true, maxRows: KEPT_ROWS } });
      script.value = 'steps' in answer ? answer : undefined;
      result.value = 'steps' in answer ? answer.steps.findLast((each) => each.result)?.result : answer;
      fromReceipt.value = isAgain;
    } catch (error) {
      problem.value = asProblem(error);
      result.value = script.value = undefined;
    } finally {
      running.value = undefined;
    }
  }

  const run = async () => {
    if (sql.value.trim() !== '') await execute(count.value > 1 ? '/script' : '/query', { sql: sql.value }, false);
  };
  const rerun = (receipt: Receipt) => execute(`/receipts/${receipt.id}/run`, {}, true);
  const cancel = async () => {
    if (running.value) await call(`/query/${running.value.id}/cancel`, { body: {} });
  };
  return { maps, does, count, script, planProblem, stale, plan, running, elapsed, result, fromReceipt, problem, run, rerun, cancel };
}
