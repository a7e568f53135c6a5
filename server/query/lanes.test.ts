import { describe, expect, it } from 'vitest';
import { Lane } from './lanes';

/** Work that ends when it is told to, and says when it began. */
function works(lane: Lane) {
  const begun: string[] = [];
  const ends = new Map<string, () => void>();
  const start = (person: string, name: string) => lane.run(person, () => new Promise<void>((resolve) => {
    begun.push(name);
    ends.set(name, resolve);
  }));
  return { begun, start, end: async (name: string) => { ends.get(name)!(); await settled(); } };
}
const settled = () => new Promise((resolve) => setTimeout(resolve, 5));
const later = (millis: number) => new Promise((resolve) => setTimeout(resolve, millis));

describe('a lane', () => {
  it('gives the turn to whoever has least under way, however much others have waiting', async () => {
    const { begun, start, end } = works(new Lane({ quick: 2, long: 1 }, 10_000));
    for (const name of ['a1', 'a2', 'a3', 'a4']) void start('a', name);
    void start('b', 'b1');
    await settled();
    expect(begun).toEqual(['a1', 'a2']);
    await end('a1');
    expect(begun).toEqual(['a1', 'a2', 'b1']);
    await end('b1');
    expect(begun).toEqual(['a1', 'a2', 'b1', 'a3']);
  });

  it('lets short work in while long work goes on, and keeps a place that one person alone cannot take', async () => {
    const { begun, start } = works(new Lane({ quick: 2, long: 2 }, 20));
    for (const name of ['a1', 'a2', 'a3', 'a4', 'a5']) void start('a', name);
    await later(150);
    // Two are long, one holds a quick place; the other quick one is for others.
    expect(begun).toEqual(['a1', 'a2', 'a3']);
    void start('b', 'b1');
    await settled();
    expect(begun).toEqual(['a1', 'a2', 'a3', 'b1']);
  });

  it('lets go of what is cancelled while it waits', async () => {
    const { begun, start, end } = works(new Lane({ quick: 1, long: 1 }, 10_000));
    const lane = new Lane({ quick: 1, long: 1 }, 10_000);
    void start('a', 'a1');
    const abort = new AbortController();
    void lane.run('a', () => new Promise(() => undefined));
    const waiting = lane.run('a', () => Promise.resolve('ran'), abort.signal);
    abort.abort();
    await expect(waiting).rejects.toMatchObject({ kind: 'cancelled' });
    expect(lane.waiting).toBe(0);
    await end('a1');
    expect(begun).toEqual(['a1']);
  });

  it('goes on after work that fails, and refuses more than can wait', async () => {
    const lane = new Lane({ quick: 1, long: 1 }, 10_000);
    await expect(lane.run('a', () => Promise.reject(new Error('failed')))).rejects.toThrow('failed');
    await expect(lane.run('a', () => Promise.resolve(7))).resolves.toBe(7);
    expect(lane.running).toBe(0);
    void lane.run('a', () => new Promise(() => undefined));
    for (let i = 0; i < 1000; i++) void lane.run('a', () => Promise.resolve());
    await expect(lane.run('a', () => Promise.resolve())).rejects.toMatchObject({ kind: 'unavailable' });
  });
});
