import { ref, shallowRef, type Ref, type ShallowRef } from 'vue';
import { Problem } from '../api/client';

export interface Loaded<T> {
  value: ShallowRef<T | undefined>;
  loading: Ref<boolean>;
  problem: ShallowRef<Problem | undefined>;
  /** Loads again; what was shown stays until the new answer is there. */
  reload: () => Promise<void>;
}

/** Runs an async load with its three states. Of overlapping loads only the last one counts. */
export function useLoad<T>(load: () => Promise<T>): Loaded<T> {
  const value = shallowRef<T>();
  const loading = ref(false);
  const problem = shallowRef<Problem>();
  let last = 0;
  const reload = async () => {
    const mine = ++last;
    loading.value = true;
    try {
      const answer = await load();
      if (mine !== last) return;
      value.value = answer;
      problem.value = undefined;
    } catch (error) {
      if (mine !== last) return;
      problem.value = asProblem(error);
    } finally {
      if (mine === last) loading.value = false;
    }
  };
  return { value, loading, problem, reload };
}

export interface Act {
  busy: Ref<boolean>;
  problem: ShallowRef<Problem | undefined>;
  /** Runs the work; a failure is kept in `problem`. Resolves to whether it went well. */
  run: (work: () => Promise<unknown>) => Promise<boolean>;
}

/** Something that a person sets going with a button, with its states. */
export function useAct(): Act {
  const busy = ref(false);
  const problem = shallowRef<Problem>();
  const run = async (work: () => Promise<unknown>) => {
    busy.value = true;
    problem.value = undefined;
    try {
      await work();
      return true;
    } catch (error) {
      problem.value = asProblem(error);
      return false;
    } finally {
      busy.value = false;
    }
  };
  return { busy, problem, run };
}

export function asProblem(error: unknown): Problem {
  return error instanceof Problem ? error : new Problem(0, 'Something failed in this page', error instanceof Error ? error.message : String(error));
}
