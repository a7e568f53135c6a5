import { describe, expect, it } from 'vitest';
import { Problem } from '../api/client';
import { useAct, useLoad } from './load';

/** A promise that is settled by hand. */
function later<T>() {
  let resolve!: (value: T) => void;
  let reject!: (error: unknown) => void;
  const promise = new Promise<T>((yes, no) => {
    resolve = yes;
    reject = no;
  });
  return { promise, resolve, reject };
}

describe('loading', () => {
  it('counts only the last of overlapping loads, whichever answers first', async () => {
    const answers = [later<string>(), later<string>()];
    let calls = 0;
    const load = useLoad(() => answers[calls++]!.promise);
    const [first, second] = [load.reload(), load.reload()];
    answers[1]!.resolve('new');
    await second;
    answers[0]!.resolve('old');
    await first;
    expect([load.value.value, load.loading.value]).toEqual(['new', false]);
  });

  it('keeps what was shown while a new answer is on its way, and after a failure says why', async () => {
    let answer: () => Promise<string> = async () => 'shown';
    const load = useLoad(() => answer());
    await load.reload();
    answer = async () => { throw new Problem(404, 'Not found', 'There is no such table.'); };
    const again = load.reload();
    expect([load.value.value, load.loading.value]).toEqual(['shown', true]);
    await again;
    expect(load.problem.value?.message).toBe('There is no such table.');
    answer = async () => 'back';
    await load.reload();
    expect([load.value.value, load.problem.value]).toEqual(['back', undefined]);
  });
});

describe('acting', () => {
  it('is busy until it is done, and tells whether it went well', async () => {
    const act = useAct();
    const work = later<void>();
    const running = act.run(() => work.promise);
    expect(act.busy.value).toBe(true);
    work.reject(new Error('no disk'));
    expect(await running).toBe(false);
    expect([act.busy.value, act.problem.value?.message]).toEqual([false, 'no disk']);
    expect(await act.run(async () => undefined)).toBe(true);
    expect(act.problem.value).toBeUndefined();
  });
});
